//! Keys and passwords. The configuration names a variable; the value is never printed.

use logothete_core::{Error, ErrorKind, Result};

/// Returns the value of a variable of the environment, or else of a file `.env` in the current folder or the nearest one above.
pub(crate) fn secret(name: &str) -> Result<String> {
    let not_text = |_| {
        // The error would hold the value.
        Error::new(ErrorKind::Configuration, format!("the variable {name} is not text"))
    };
    match std::env::var(name) {
        Err(std::env::VarError::NotPresent) => {}
        found => return found.map_err(not_text),
    }
    // A line that cannot be read is passed over: the error would hold what it says.
    let mut lines = dotenvy::dotenv_iter().into_iter().flatten().filter_map(std::result::Result::ok);
    lines.find(|(known, _)| known == name).map(|(_, value)| value).ok_or_else(|| {
        let message = format!("the variable {name} is in neither the environment nor a file .env; set it");
        Error::new(ErrorKind::Configuration, message)
    })
}
