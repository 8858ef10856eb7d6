//! Detects whether an input is text if no parser recognises it, and names common other formats.

use logothete_core::{Error, ErrorKind};

/// The number of bytes from the start that are examined.
const SAMPLE_BYTES: usize = 8192;

/// Signatures of formats that are met often and not read, with the word for each.
const NOT_READ: &[(&[u8], &str)] = &[
    (b"PK\x03\x04", "this is a ZIP archive"),
    (b"\xD0\xCF\x11\xE0", "this is an old office document"),
    (b"\x89PNG\r\n\x1a\n", "this is a PNG picture"),
    (b"\xFF\xD8\xFF", "this is a JPEG picture"),
    (b"GIF8", "this is a GIF picture"),
    (b"II*\0", "this is a TIFF picture"),
    (b"MM\0*", "this is a TIFF picture"),
    (b"\x1F\x8B", "this is a gzip archive"),
    (b"\x7FELF", "this is a program"),
    (b"SQLite format 3\0", "this is an SQLite database"),
];

/// Returns the ending of a file's name, lower case, without the dot.
pub(crate) fn ending(name: &str) -> String {
    let file = name.rsplit(['/', '\\']).next().unwrap_or(name);
    file.rsplit_once('.').map(|(_, ending)| ending.to_ascii_lowercase()).unwrap_or_default()
}

/// Returns the format of bytes that are not text.
pub(crate) fn not_text(bytes: &[u8]) -> Option<&'static str> {
    let start = &bytes[..bytes.len().min(SAMPLE_BYTES)];
    let known = NOT_READ.iter().find(|(signature, _)| start.starts_with(signature)).map(|(_, what)| *what);
    known.or_else(|| is_binary(start).then_some("this is binary data, not text"))
}

pub(crate) fn not_read(what: &str, ending: &str) -> Error {
    let named = if ending.is_empty() { String::new() } else { format!(" though its name ends in .{ending}") };
    let named = if matches!(ending, "pdf" | "txt" | "md" | "html" | "csv" | "docx" | "xlsx" | "pptx") {
        named
    } else {
        String::new()
    };
    let read = "PDF, Word, slides, spreadsheets, HTML, Markdown, CSV, JSON, e-mail, EPUB, captions and text are read";
    Error::new(ErrorKind::Unsupported, format!("{what}{named}; {read}"))
}

/// Returns the word for a media type, for messages.
pub(crate) fn called(media_type: &str) -> &str {
    match media_type {
        "application/pdf" => "a PDF",
        "text/html" => "an HTML page",
        "application/json" => "JSON",
        "message/rfc822" => "an e-mail",
        "application/epub+zip" => "an EPUB book",
        "application/vnd.openxmlformats-officedocument.wordprocessingml.document" => "a Word document",
        "application/vnd.openxmlformats-officedocument.presentationml.presentation" => "a set of slides",
        "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet" => "a spreadsheet",
        other if other.starts_with("text/") => "text",
        other => other,
    }
}

/// Returns `true` if bytes are not text in any usual encoding: a NUL where the text is not UTF-16, or many control bytes.
fn is_binary(start: &[u8]) -> bool {
    if start.starts_with(b"\xFF\xFE") || start.starts_with(b"\xFE\xFF") {
        return false;
    }
    let control = start.iter().filter(|&&b| b < 9 || (14..32).contains(&b) && b != 27).count();
    start.contains(&0) || control * 20 > start.len()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case("notes/a.b/Log.MD", "md")]
    #[case("notes.d/log", "")]
    #[case("plain", "")]
    fn endings(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(super::ending(name), expected);
    }

    #[rstest]
    #[case(b"\x89PNG\r\n\x1a\n....", true)]
    #[case(b"caf\xe9 au lait", false)]
    #[case(b"\xFF\xFEa\0b\0", false)]
    #[case(b"a\0b", true)]
    fn text_or_not(#[case] bytes: &[u8], #[case] expected: bool) {
        assert_eq!(super::not_text(bytes).is_some(), expected);
    }
}
