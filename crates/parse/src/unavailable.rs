//! Functions that return an error in a build without the feature `picture`.

use logothete_core::document::{Area, Document, Picture};
use logothete_core::{Error, ErrorKind, Result};

fn unavailable<T>() -> Result<T> {
    Err(Error::new(ErrorKind::Unsupported, "this program was built without the feature `picture`, which draws pages"))
}

/// Draws a page of a PDF. Needs the feature `picture`.
///
/// # Errors
/// Always: the feature is missing.
pub fn page_picture(_: &[u8], _: Option<&str>, _: u32, _: f32) -> Result<Picture> {
    unavailable()
}

/// Draws an area of a page of a PDF. Needs the feature `picture`.
///
/// # Errors
/// Always: the feature is missing.
pub fn area_picture(_: &[u8], _: Option<&str>, _: u32, _: Area, _: f32) -> Result<Picture> {
    unavailable()
}

/// Draws a page of a PDF with some areas marked. Needs the feature `picture`.
///
/// # Errors
/// Always: the feature is missing.
pub fn marked_page(_: &[u8], _: Option<&str>, _: u32, _: &[Area], _: f32) -> Result<Picture> {
    unavailable()
}

/// Draws a page of a PDF with its blocks outlined. Needs the feature `picture`.
///
/// # Errors
/// Always: the feature is missing.
pub fn outlined_page(_: &[u8], _: Option<&str>, _: &Document, _: u32, _: f32) -> Result<Picture> {
    unavailable()
}

/// Writes a picture as a PNG. Needs the feature `picture`.
///
/// # Errors
/// Always: the feature is missing.
pub fn png(_: &Picture) -> Result<Vec<u8>> {
    unavailable()
}
