//! The metadata of documents: what the file, the source and the request add to what the document says.

use logothete_core::Result;
use logothete_core::document::{Date, Document, Metadata, Value, check_metadata};

use super::BuildRequest;
use crate::source::Item;
use crate::storage::FileState;

/// The fields that [`complete`] sets from the file.
const FILE_FIELDS: [&str; 4] = ["file_name", "file_size", "content_hash", "modified"];

/// Adds to a document's metadata what the file, the source and the request say. The document's own fields take precedence.
///
/// # Errors
/// If a number is infinite or not a number.
pub(super) fn complete(document: &mut Document, item: &Item, state: &FileState, request: &BuildRequest) -> Result<()> {
    let mut add = |name: &str, value: Value| {
        document.metadata.entry(name.to_owned()).or_insert(value);
    };
    let file = item.path.rsplit('/').next().unwrap_or(&item.path);
    add("file_name", Value::Text(file.to_owned()));
    add("file_size", Value::Number(state.size as f64));
    add("content_hash", Value::Text(state.hash.clone()));
    if state.modified > 0 {
        add("modified", Value::Date(Date::from_unix(state.modified.div_euclid(1_000_000_000))));
    }
    for (name, value) in item.metadata.iter().chain(&request.metadata) {
        add(name, value.clone());
    }
    check_metadata(&document.metadata)
}

/// Removes the fields that [`complete`] sets from the file.
pub(super) fn remove_file_fields(metadata: &mut Metadata) {
    FILE_FIELDS.iter().for_each(|field| drop(metadata.remove(*field)));
}

/// Returns the metadata that the source and the request give an item, as JSON. An infinite number becomes null here; [`complete`]
/// refuses it.
pub(super) fn given(item: &Item, request: &BuildRequest) -> String {
    let mut given = request.metadata.clone();
    given.extend(item.metadata.clone());
    serde_json::to_string(&given).unwrap_or_default()
}
