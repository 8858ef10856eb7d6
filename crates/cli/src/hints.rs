//! Hints that the command adds to errors of the library: which subcommand or option helps.

use logothete::{Error, ErrorKind};

/// Returns the advice for an error with this command; `None` if the message suffices.
pub fn hint(error: &Error) -> Option<&'static str> {
    let message = error.message();
    match error.kind() {
        ErrorKind::Mismatch if message.contains("encode") => {
            Some("logothete build --reencode encodes a corpus with the encoder of the configuration")
        }
        ErrorKind::System if message.contains("make") && message.contains("folder writable") => {
            Some("--corpus FOLDER names another folder for the corpus")
        }
        ErrorKind::Refused if message.contains("import into a new one") => Some("--corpus FOLDER names a new corpus"),
        ErrorKind::Unreadable if message.contains("not an export") => Some("logothete show --export FILE writes one"),
        ErrorKind::NotFound if message.contains("no chunk with this id") => {
            Some("logothete show --document NAME lists the chunks of a document")
        }
        ErrorKind::System if message.contains("exists already; edit it") => Some("--config FILE names another file"),
        _ => None,
    }
}
