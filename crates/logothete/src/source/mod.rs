//! Sources of documents: files and folders, bytes in memory, addresses, or a source of your own.

mod folder;
mod memory;
mod parts;
mod path_text;
#[cfg(feature = "http")]
mod web;

pub use folder::FolderSource;
pub use memory::MemorySource;
pub use parts::FilePart;
pub(crate) use parts::whole_of;
pub(crate) use path_text::{path_text, text_path};
#[cfg(feature = "http")]
pub use web::WebSource;

use std::sync::Arc;

use std::time::SystemTime;

use logothete_core::Result;
use logothete_core::document::Metadata;

use crate::BoxFuture;

/// The items of a source, listed lazily. An error stands for a part of the source that could not be listed.
///
/// The place of the error is the path of that part, with `/` between the components: documents under it stay in the corpus. An
/// error without a place keeps all documents of the source.
pub type Items = Box<dyn Iterator<Item = Result<Item>> + Send>;

/// A source of documents.
///
/// A source lists what it holds, lazily and in a steady order, and reads one item at a time, so that a source of any size
/// is never held in memory. What it says of an item's size and time lets a build pass over what has not changed.
pub trait Source: Send + Sync {
    /// Returns the identity of the source, which must stay the same from one build to the next. Folders return their path.
    fn location(&self) -> String;

    /// Returns `true` if a listing is complete. Only then are missing documents removed.
    fn is_whole(&self) -> bool {
        true
    }

    /// Lists the items.
    ///
    /// # Errors
    /// If nothing can be listed.
    fn items(&self) -> BoxFuture<'_, Result<Items>>;

    /// Reads an item. Of more than `max` bytes nothing is needed but the error that says so.
    ///
    /// # Errors
    /// If the item cannot be read.
    fn read<'a>(&'a self, item: &'a Item, max: u64) -> BoxFuture<'a, Result<Content>>;
}

/// Forwards the trait through a pointer, so that shared stages can be used like others.
macro_rules! forward {
    ($($pointer:ty),*) => {
        $(impl<T: Source + ?Sized> Source for $pointer {
            fn location(&self) -> String {
                (**self).location()
            }

            fn is_whole(&self) -> bool {
                (**self).is_whole()
            }

            fn items(&self) -> BoxFuture<'_, Result<Items>> {
                (**self).items()
            }

            fn read<'a>(&'a self, item: &'a Item, max: u64) -> BoxFuture<'a, Result<Content>> {
                (**self).read(item, max)
            }
        })*
    };
}

forward!(Arc<T>, Box<T>);

/// Something that a source lists.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Item {
    /// Its path from the source's root, with `/` between the parts. It becomes the document's name.
    pub path: String,
    /// The address to read: a path or a URL; empty if the source reads by `path`. An address that is listed twice is read once.
    pub place: String,
    /// Its size in bytes, if that is known before it is read.
    pub size: Option<u64>,
    /// When it was changed last, if that is known before it is read.
    pub modified: Option<SystemTime>,
    /// A number that stays with what is at the path and changes when something else is put there: a file's inode.
    pub inode: Option<u64>,
    /// Facts from the source, for the document's metadata.
    pub metadata: Metadata,
    /// The part of a large file of records that it is; `None` means a whole file.
    pub part: Option<FilePart>,
}

/// The content of an item.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Content {
    /// The content.
    pub bytes: Vec<u8>,
    /// Its media type, if the source says.
    pub media_type: Option<String>,
}

/// Returns the error for an item that is larger than is allowed.
fn too_large(size: u64, max: u64) -> logothete_core::Error {
    let message = format!(
        "this file has {} MB, and the limit is {} MB; raise file_megabytes in [limits] to read it",
        size.div_ceil(1_000_000),
        max / 1_000_000
    );
    logothete_core::Error::new(logothete_core::ErrorKind::Limit, message)
}
