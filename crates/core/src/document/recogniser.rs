//! The trait of programs that recognise words in pictures of pages.

use std::fmt;

use super::Area;
use crate::error::Result;
use crate::fingerprint::Fingerprint;

/// A picture: three bytes a pixel, red, green and blue, row by row from the top.
#[derive(Clone, PartialEq, Eq)]
pub struct Picture {
    /// Pixels in a row.
    pub width: u32,
    /// Rows.
    pub height: u32,
    /// The pixels: `width * height * 3` bytes.
    pub pixels: Vec<u8>,
}

impl fmt::Debug for Picture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Picture({} × {})", self.width, self.height)
    }
}

/// A word seen in a picture.
#[derive(Clone, Debug, PartialEq)]
pub struct SeenWord {
    /// What it says.
    pub text: String,
    /// Where it is, in pixels.
    pub area: Area,
    /// Which line of the picture it is on; words of one line have the same number.
    pub line: u32,
    /// How sure the recognition is, from 0 to 1.
    pub confidence: f32,
}

/// Reads the words in pictures of pages.
pub trait PageRecogniser: Send + Sync {
    /// Changes whenever the same picture may give other words.
    fn fingerprint(&self) -> Fingerprint;

    /// The words of a picture, line by line.
    ///
    /// # Errors
    /// If the picture cannot be read.
    fn recognise(&self, picture: &Picture) -> Result<Vec<SeenWord>>;
}
