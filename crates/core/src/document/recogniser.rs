//! The trait of programs that recognise words in pictures of pages.

use std::sync::Arc;

use std::fmt;

use super::Area;
use crate::error::Result;
use crate::fingerprint::Fingerprint;

/// A picture: three bytes a pixel, red, green and blue, row by row from the top.
#[derive(Clone, PartialEq, Eq)]
pub struct Picture {
    /// The width in pixels.
    pub width: u32,
    /// The height in pixels.
    pub height: u32,
    /// The pixels: `width * height * 3` bytes.
    pub pixels: Vec<u8>,
}

impl fmt::Debug for Picture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Picture({} × {})", self.width, self.height)
    }
}

/// A word in a picture.
#[derive(Clone, Debug, PartialEq)]
pub struct SeenWord {
    /// The text.
    pub text: String,
    /// The rectangle, in pixels.
    pub area: Area,
    /// The number of its line in the picture.
    pub line: u32,
    /// The confidence of the recognition, from 0 to 1.
    pub confidence: f32,
}

/// A program that recognises words in pictures of pages.
pub trait PageRecogniser: Send + Sync {
    /// Returns a text that changes if the same picture may give other words.
    fn fingerprint(&self) -> Fingerprint;

    /// Returns the words of a picture, line by line.
    ///
    /// # Errors
    /// If the picture cannot be read.
    fn recognise(&self, picture: &Picture) -> Result<Vec<SeenWord>>;
}

/// Forwards the trait through a pointer, so that shared stages can be used like others.
macro_rules! forward {
    ($($pointer:ty),*) => {
        $(impl<T: PageRecogniser + ?Sized> PageRecogniser for $pointer {
            fn fingerprint(&self) -> Fingerprint {
                (**self).fingerprint()
            }

            fn recognise(&self, picture: &Picture) -> Result<Vec<SeenWord>> {
                (**self).recognise(picture)
            }
        })*
    };
}

forward!(Arc<T>, Box<T>);
