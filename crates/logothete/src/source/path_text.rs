//! Paths as text, and back, whatever bytes they have.
//!
//! A byte that is not UTF-8 becomes `\xE9`. Backslashes before such a byte, or before text that looks like one, are doubled, so
//! that different paths have different texts.

use std::path::{Path, PathBuf};

/// Returns a path as text.
pub(crate) fn path_text(path: &Path) -> String {
    let bytes = path.as_os_str().as_encoded_bytes();
    match std::str::from_utf8(bytes) {
        Ok(text) if !text.contains('\\') => return text.to_owned(),
        _ => {}
    }
    let mut text = String::with_capacity(bytes.len() + 8);
    for part in bytes.utf8_chunks() {
        let mut rest = part.valid();
        while let Some(at) = rest.find('\\') {
            text.push_str(&rest[..at]);
            let after = rest[at..].trim_start_matches('\\');
            let run = &rest[at..rest.len() - after.len()];
            let is_doubled = code(after).is_some() || (after.is_empty() && !part.invalid().is_empty());
            text.push_str(run);
            text.push_str(if is_doubled { run } else { "" });
            rest = after;
        }
        text.push_str(rest);
        part.invalid().iter().for_each(|byte| text.push_str(&format!("\\x{byte:02X}")));
    }
    text
}

/// Returns the path of a text that [`path_text`] wrote.
pub(crate) fn text_path(text: &str) -> PathBuf {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('\\') {
        bytes.extend_from_slice(&rest.as_bytes()[..at]);
        let after = rest[at..].trim_start_matches('\\');
        let run = rest.len() - at - after.len();
        rest = after;
        match code(after) {
            Some(byte) => {
                bytes.extend(std::iter::repeat_n(b'\\', run / 2));
                if run % 2 == 1 {
                    bytes.push(byte);
                    rest = &after[3..];
                }
            }
            None => bytes.extend(std::iter::repeat_n(b'\\', run)),
        }
    }
    bytes.extend_from_slice(rest.as_bytes());
    from_bytes(bytes)
}

/// Returns the byte that `xE9` at the start of a text names.
fn code(text: &str) -> Option<u8> {
    let digits = text.strip_prefix('x')?.get(..2)?;
    let is_code = digits.bytes().all(|digit| digit.is_ascii_digit() || (b'A'..=b'F').contains(&digit));
    if is_code { u8::from_str_radix(digits, 16).ok() } else { None }
}

#[cfg(unix)]
fn from_bytes(bytes: Vec<u8>) -> PathBuf {
    PathBuf::from(<std::ffi::OsString as std::os::unix::ffi::OsStringExt>::from_vec(bytes))
}

#[cfg(not(unix))]
fn from_bytes(bytes: Vec<u8>) -> PathBuf {
    PathBuf::from(String::from_utf8_lossy(&bytes).into_owned())
}

#[cfg(all(test, unix))]
mod tests {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_path_comes_back(parts in prop::collection::vec(prop_oneof![
            any::<u8>().prop_map(|byte| vec![byte]),
            Just(b"\\".to_vec()),
            Just(b"\\xE9".to_vec()),
            Just("quay".as_bytes().to_vec()),
        ], 0..12)) {
            let bytes = parts.concat();
            let path = Path::new(OsStr::from_bytes(&bytes));
            let text = path_text(path);
            let back = text_path(&text);
            prop_assert_eq!(back.as_os_str().as_bytes(), bytes.as_slice(), "{}", text);
        }
    }

    #[test]
    fn ordinary_names_stay_as_they_are() {
        assert_eq!(path_text(Path::new("notices/a\\b é.md")), "notices/a\\b é.md");
        assert_eq!(path_text(Path::new(OsStr::from_bytes(b"caf\xE9.txt"))), "caf\\xE9.txt");
        assert_eq!(path_text(Path::new("caf\\xE9.txt")), "caf\\\\xE9.txt");
    }
}
