//! Writing files that the user names: beside, then renamed, and never over a file that exists unless the user insists.

use std::fs::Permissions;
use std::io::Write;
use std::path::Path;

use logothete::{Error, ErrorKind, Result};

/// Writes a file. The content is complete under the name, or the name is as it was.
///
/// # Errors
/// If the file exists and `force` is `false`, or if it cannot be written.
pub fn write_file(file: &Path, content: &[u8], force: bool) -> Result<()> {
    let unwritable = |error: std::io::Error| {
        Error::new(ErrorKind::System, format!("it could not be written: {error}")).at(file.display()).because(error)
    };
    check_free(file, force)?;
    let folder = match file.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    let mut builder = tempfile::Builder::new();
    let permissions = permissions();
    if let Some(permissions) = &permissions {
        builder.permissions(permissions.clone());
    }
    let mut beside = builder.prefix(".logothete-").tempfile_in(folder).map_err(unwritable)?;
    beside.write_all(content).and_then(|()| beside.as_file().sync_all()).map_err(unwritable)?;
    let renamed = if force { beside.persist(file) } else { beside.persist_noclobber(file) };
    match renamed {
        Ok(_) => Ok(()),
        Err(error) if error.error.kind() == std::io::ErrorKind::AlreadyExists => Err(exists(file)),
        Err(error) => Err(unwritable(error.error)),
    }
}

/// Refuses a file that exists, unless `force` is `true`.
pub fn check_free(file: &Path, force: bool) -> Result<()> {
    if !force && file.symlink_metadata().is_ok() { Err(exists(file)) } else { Ok(()) }
}

fn exists(file: &Path) -> Error {
    let message = "it exists already; name another file, or overwrite it with --force";
    Error::new(ErrorKind::Refused, message).at(file.display())
}

/// Returns the permissions of new files, which the process's mask reduces; temporary files are private by default.
#[cfg(unix)]
fn permissions() -> Option<Permissions> {
    Some(std::os::unix::fs::PermissionsExt::from_mode(0o666))
}

#[cfg(not(unix))]
fn permissions() -> Option<Permissions> {
    None
}
