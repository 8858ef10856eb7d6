//! Templates of prompts in files.

use std::io::Write;
use std::path::{Path, PathBuf};

use logothete_core::prompt::Templates;
use logothete_core::{Error, ErrorKind, Result};

/// Returns the default templates, with those of a folder in their place. Files that do not end in `.txt` are passed over.
///
/// # Errors
/// If a file cannot be read, or is no template of a known name; the place is the file and the line.
pub(super) fn read(folder: &Path) -> Result<Templates> {
    let mut templates = Templates::default();
    if folder.as_os_str().is_empty() {
        return Ok(templates);
    }
    let unread = |place: &Path, error: std::io::Error| {
        let message = format!("the templates could not be read: {error}");
        Error::new(ErrorKind::Configuration, message).at(place.display()).because(error)
    };
    let entries = std::fs::read_dir(folder).map_err(|error| unread(folder, error))?;
    let mut files: Vec<PathBuf> = entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect();
    files.retain(|file| file.extension().is_some_and(|extension| extension == "txt"));
    files.sort();
    for file in files {
        let text = std::fs::read_to_string(&file).map_err(|error| unread(&file, error))?;
        let name = file.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
        templates.replace(&name, text).map_err(|error| {
            let line = error.place().and_then(|place| place.split_once(", ")).map(|(_, line)| format!(", {line}"));
            let place = format!("{}{}", file.display(), line.unwrap_or_default());
            Error::new(error.kind(), error.message().to_owned()).at(place)
        })?;
    }
    Ok(templates)
}

/// Writes the default templates to new files `NAME.txt` in a folder, which is created if it is missing. Returns their paths. Name the
/// folder in `[prompt] templates` to use them.
///
/// # Errors
/// If a file exists or cannot be written. Files that were written before stay.
pub fn write_templates(folder: &Path) -> Result<Vec<PathBuf>> {
    let failed = |place: &Path, error: std::io::Error| {
        let message = match error.kind() {
            std::io::ErrorKind::AlreadyExists => {
                "this file exists already; edit it, or move it away to get the default one".to_owned()
            }
            _ => format!("this could not be written: {error}"),
        };
        Error::new(ErrorKind::System, message).at(place.display()).because(error)
    };
    std::fs::create_dir_all(folder).map_err(|error| failed(folder, error))?;
    let mut written = Vec::new();
    for (name, text) in Templates::default().all() {
        let path = folder.join(format!("{name}.txt"));
        let created = std::fs::OpenOptions::new().write(true).create_new(true).open(&path);
        created.and_then(|mut file| file.write_all(text.as_bytes())).map_err(|error| failed(&path, error))?;
        written.push(path);
    }
    Ok(written)
}
