//! Bytes in, documents out.
//!
//! [`parse`] looks at the content first and at the name second, chooses the format, and returns a
//! [`Document`] with its blocks, pages and metadata. What could not be read is in its warnings; an error means that nothing
//! could be read. [`Parsers`] does the same with settings, limits and parsers of your own.
//!
//! ```
//! let document = logothete_parse::parse("log.md", b"# Watch log\n\nAll quiet.")?;
//! assert_eq!(document.title.as_deref(), Some("Watch log"));
//! # Ok::<(), logothete_core::Error>(())
//! ```

#[cfg(any(feature = "epub", feature = "office"))]
mod archive;
mod captions;
mod code;
mod colours;
#[cfg(feature = "delimited")]
mod delimited;
mod detect;
#[cfg(feature = "email")]
mod email;
#[cfg(feature = "epub")]
mod epub;
#[cfg(feature = "html")]
mod html;
mod json;
mod language;
#[cfg(feature = "markdown")]
mod markdown;
#[cfg(feature = "office")]
mod office;
#[cfg(feature = "pdf")]
mod pdf;
mod plain;
mod records;
mod registry;
#[cfg(not(feature = "picture"))]
mod unavailable;
#[cfg(any(feature = "epub", feature = "office"))]
#[cfg_attr(not(feature = "office"), allow(dead_code))]
mod xml;

use std::sync::Arc;

use logothete_core::Result;
use logothete_core::chunk::LinePattern;
use logothete_core::document::{Budget, Document, PageRecogniser, Parser};

pub use captions::CaptionParser;
pub use code::CodeParser;
pub use colours::block_colour;
#[cfg(feature = "delimited")]
pub use delimited::DelimitedParser;
#[cfg(feature = "email")]
pub use email::EmailParser;
#[cfg(feature = "epub")]
pub use epub::EpubParser;
#[cfg(feature = "html")]
pub use html::HtmlParser;
pub use json::{JsonFields, JsonParser};
#[cfg(feature = "markdown")]
pub use markdown::MarkdownParser;
#[cfg(feature = "office")]
pub use office::{DocxParser, PptxParser, SheetParser};
#[cfg(feature = "pdf")]
pub use pdf::{OutlineEntry, PdfParser, outline as pdf_outline};
#[cfg(feature = "picture")]
pub use pdf::{area_picture, marked_page, outlined_page, page_picture, png};
pub use plain::TextParser;
pub use records::RecordScanner;
pub use registry::Parsers;
#[cfg(not(feature = "picture"))]
pub use unavailable::{area_picture, marked_page, outlined_page, page_picture, png};

/// The settings of the library's parsers.
#[derive(Clone, Default)]
pub struct ParseSettings {
    /// Opens protected PDF files.
    pub password: Option<String>,
    /// The places of the text and the metadata of JSON records.
    pub json: JsonFields,
    /// Whether comments in the margins of Word documents are read.
    pub comments: bool,
    /// Reads pages that are pictures.
    pub recogniser: Option<Arc<dyn PageRecogniser>>,
    /// Lines of Markdown that stand alone, for a chunker that cuts at them.
    pub boundary: Option<LinePattern>,
    /// The advice in a warning about pages that are pictures, if there is no recogniser.
    pub picture_advice: Option<&'static str>,
}

impl std::fmt::Debug for ParseSettings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ParseSettings").finish_non_exhaustive()
    }
}

/// Returns the parsers of the library; plain text, which fits everything, comes last.
fn built_in(settings: &ParseSettings) -> Vec<Arc<dyn Parser>> {
    vec![
        #[cfg(feature = "pdf")]
        Arc::new(PdfParser::new(settings)),
        #[cfg(feature = "office")]
        Arc::new(DocxParser::default().comments(settings.comments)),
        #[cfg(feature = "office")]
        Arc::new(PptxParser),
        #[cfg(feature = "office")]
        Arc::new(SheetParser),
        #[cfg(feature = "epub")]
        Arc::new(EpubParser),
        #[cfg(feature = "html")]
        Arc::new(HtmlParser),
        #[cfg(feature = "email")]
        Arc::new(EmailParser::new(settings.clone())),
        Arc::new(CaptionParser),
        Arc::new(JsonParser::new(settings.json.clone())),
        #[cfg(feature = "delimited")]
        Arc::new(DelimitedParser),
        #[cfg(feature = "markdown")]
        Arc::new(MarkdownParser::default().boundary(settings.boundary.clone())),
        Arc::new(CodeParser),
        Arc::new(TextParser),
    ]
}

/// Parses the bytes of a file with the settings that fit most.
///
/// # Errors
/// As [`Parsers::parse`].
pub fn parse(name: &str, bytes: &[u8]) -> Result<Document> {
    Parsers::default().parse(name, bytes, &Budget::default())
}

/// Returns a number in Roman digits.
#[cfg(any(feature = "office", feature = "pdf"))]
pub(crate) fn roman(mut number: u32) -> String {
    const PARTS: &[(u32, &str)] = &[
        (1000, "M"),
        (900, "CM"),
        (500, "D"),
        (400, "CD"),
        (100, "C"),
        (90, "XC"),
        (50, "L"),
        (40, "XL"),
        (10, "X"),
        (9, "IX"),
        (5, "V"),
        (4, "IV"),
        (1, "I"),
    ];
    let mut written = String::new();
    number %= 10_000;
    for &(value, digits) in PARTS {
        while number >= value {
            written.push_str(digits);
            number -= value;
        }
    }
    written
}

#[cfg(all(test, feature = "pdf"))]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case(4, "IV")]
    #[case(9, "IX")]
    #[case(1994, "MCMXCIV")]
    fn romans(#[case] number: u32, #[case] expected: &str) {
        assert_eq!(super::roman(number), expected);
    }
}
