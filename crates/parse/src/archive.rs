//! ZIP archives of office documents and books: named parts, unpacked one by one within a limit.

use std::io::{Cursor, Read};

use logothete_core::document::{Budget, Made};
use logothete_core::{Error, ErrorKind, Result};

/// An archive that is being read.
pub(crate) struct Archive<'a> {
    zip: zip::ZipArchive<Cursor<&'a [u8]>>,
    budget: Budget,
}

impl<'a> Archive<'a> {
    /// Opens an archive.
    ///
    /// # Errors
    /// If it is damaged.
    pub(crate) fn open(bytes: &'a [u8], budget: &Budget) -> Result<Self> {
        let zip = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|error| {
            let message = "it is damaged or cut short: its list of parts cannot be read; fetch it again";
            Error::new(ErrorKind::Unreadable, message).because(error)
        })?;
        Ok(Self { zip, budget: budget.clone() })
    }

    /// Returns `true` if bytes are an archive with a part of this name.
    pub(crate) fn has(bytes: &[u8], part: &str) -> bool {
        bytes.starts_with(b"PK\x03\x04")
            && zip::ZipArchive::new(Cursor::new(bytes)).is_ok_and(|zip| zip.index_for_name(part).is_some())
    }

    /// Returns `true` if bytes are an archive whose first part says that it is of this media type.
    pub(crate) fn says(bytes: &[u8], media_type: &str) -> bool {
        // The part `mimetype` comes first and is not packed: its name is at byte 30, and its content follows.
        bytes.starts_with(b"PK\x03\x04")
            && bytes.get(30..38) == Some(b"mimetype".as_slice())
            && bytes[38..bytes.len().min(200)].windows(media_type.len()).any(|window| window == media_type.as_bytes())
    }

    /// Unpacks a part; `None` if there is none of that name.
    ///
    /// # Errors
    /// If the part is damaged, or what was unpacked of the file passes the limit.
    pub(crate) fn part(&mut self, name: &str) -> Result<Option<Vec<u8>>> {
        let Ok(part) = self.zip.by_name(name.trim_start_matches('/')) else { return Ok(None) };
        let mut bytes = Vec::new();
        let left = self.budget.left(Made::Unpacked);
        let read = part.take(left.saturating_add(1)).read_to_end(&mut bytes);
        self.budget.count(Made::Unpacked, bytes.len() as u64)?;
        match read {
            Ok(_) => Ok(Some(bytes)),
            Err(error) => {
                let message = format!("its part {name} is damaged; fetch the file again");
                Err(Error::new(ErrorKind::Unreadable, message).because(error))
            }
        }
    }

    /// Unpacks a part that the format must have.
    ///
    /// # Errors
    /// If there is none, or as [`part`](Self::part).
    pub(crate) fn needed(&mut self, name: &str) -> Result<Vec<u8>> {
        self.part(name)?.ok_or_else(|| {
            Error::new(ErrorKind::Unreadable, format!("its part {name} is missing; save it again with its program"))
        })
    }
}

/// Returns a path in an archive, as seen from a part of it: `../media/a.png` from `ppt/slides/slide1.xml`.
pub(crate) fn resolve(from: &str, path: &str) -> String {
    if let Some(absolute) = path.strip_prefix('/') {
        return absolute.to_owned();
    }
    let mut parts: Vec<&str> = from.split('/').collect();
    parts.pop();
    for part in path.split('/') {
        match part {
            ".." => drop(parts.pop()),
            "." | "" => {}
            part => parts.push(part),
        }
    }
    parts.join("/")
}
