//! `[parse]`: how documents are read.

use std::collections::BTreeMap;

use logothete_core::document::Pages;
use serde::{Deserialize, Serialize};

use super::written;

/// Whether scanned pages are recognised.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Ocr {
    /// Yes, if the program `tesseract` is installed.
    #[default]
    Auto,
    /// Never.
    Off,
}

/// `[parse]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct ParseConfig {
    /// The pages to read, written `"1-10"`; `None`, written `""`, reads all.
    #[serde(with = "written")]
    pub pages: Option<Pages>,
    /// The environment variable that holds the password of protected PDF files.
    pub password_env: String,
    /// Whether scanned pages are recognised, with the program `tesseract`.
    pub ocr: Ocr,
    /// The languages of scanned pages, as `tesseract` names them, such as `"eng+deu"`; empty means its own default.
    pub ocr_languages: String,
    /// Whether documents are read in processes of their own, if the program has a reader to start, as the command does.
    pub isolated: bool,
    /// Whether comments in the margins of Word documents are read.
    pub comments: bool,
    /// The JSON pointer to the text of a JSON record; empty means that the parser looks for it.
    pub json_text: String,
    /// The JSON pointer to the title of a JSON record.
    pub json_title: String,
    /// The metadata of JSON records: field name to JSON pointer.
    pub json_metadata: BTreeMap<String, String>,
}

impl Default for ParseConfig {
    fn default() -> Self {
        Self {
            pages: None,
            password_env: String::new(),
            ocr: Ocr::default(),
            ocr_languages: String::new(),
            isolated: true,
            comments: false,
            json_text: String::new(),
            json_title: String::new(),
            json_metadata: BTreeMap::new(),
        }
    }
}
