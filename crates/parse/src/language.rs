//! The language of a document, detected from its text if the document does not state it.

use logothete_core::document::{Document, Value};
use whatlang::{Lang, detect};

/// The number of bytes of the text that are examined.
const MAX_BYTES: usize = 6_000;
/// The lowest number of letters for a decision.
const LEAST: usize = 60;

/// The languages that have a code of two letters, which is what tags of languages use for them (RFC 5646).
const SHORT: &[(Lang, &str)] = &[
    (Lang::Eng, "en"),
    (Lang::Rus, "ru"),
    (Lang::Cmn, "zh"),
    (Lang::Spa, "es"),
    (Lang::Por, "pt"),
    (Lang::Ita, "it"),
    (Lang::Fra, "fr"),
    (Lang::Deu, "de"),
    (Lang::Ukr, "uk"),
    (Lang::Kat, "ka"),
    (Lang::Ara, "ar"),
    (Lang::Hin, "hi"),
    (Lang::Jpn, "ja"),
    (Lang::Heb, "he"),
    (Lang::Yid, "yi"),
    (Lang::Pol, "pl"),
    (Lang::Amh, "am"),
    (Lang::Jav, "jv"),
    (Lang::Kor, "ko"),
    (Lang::Nob, "nb"),
    (Lang::Dan, "da"),
    (Lang::Swe, "sv"),
    (Lang::Fin, "fi"),
    (Lang::Tur, "tr"),
    (Lang::Nld, "nl"),
    (Lang::Hun, "hu"),
    (Lang::Ces, "cs"),
    (Lang::Ell, "el"),
    (Lang::Bul, "bg"),
    (Lang::Bel, "be"),
    (Lang::Mar, "mr"),
    (Lang::Kan, "kn"),
    (Lang::Ron, "ro"),
    (Lang::Slv, "sl"),
    (Lang::Hrv, "hr"),
    (Lang::Srp, "sr"),
    (Lang::Mkd, "mk"),
    (Lang::Lit, "lt"),
    (Lang::Lav, "lv"),
    (Lang::Est, "et"),
    (Lang::Tam, "ta"),
    (Lang::Vie, "vi"),
    (Lang::Urd, "ur"),
    (Lang::Tha, "th"),
    (Lang::Guj, "gu"),
    (Lang::Uzb, "uz"),
    (Lang::Pan, "pa"),
    (Lang::Aze, "az"),
    (Lang::Ind, "id"),
    (Lang::Tel, "te"),
    (Lang::Pes, "fa"),
    (Lang::Mal, "ml"),
    (Lang::Ori, "or"),
    (Lang::Mya, "my"),
    (Lang::Nep, "ne"),
    (Lang::Sin, "si"),
    (Lang::Khm, "km"),
    (Lang::Tuk, "tk"),
    (Lang::Aka, "ak"),
    (Lang::Zul, "zu"),
    (Lang::Sna, "sn"),
    (Lang::Afr, "af"),
    (Lang::Lat, "la"),
    (Lang::Slk, "sk"),
    (Lang::Cat, "ca"),
    (Lang::Tgl, "tl"),
    (Lang::Hye, "hy"),
];

/// Sets the metadata field `language` if it is missing and the language can be recognised.
pub(crate) fn note(document: &mut Document) {
    if document.metadata.contains_key("language") {
        return;
    }
    let mut end = document.text.len().min(MAX_BYTES);
    while !document.text.is_char_boundary(end) {
        end -= 1;
    }
    let text = &document.text[..end];
    if text.chars().filter(|c| c.is_alphabetic()).count() < LEAST {
        return;
    }
    if let Some(found) = detect(text).filter(whatlang::Info::is_reliable) {
        let code = SHORT.iter().find(|(lang, _)| *lang == found.lang()).map_or(found.lang().code(), |(_, code)| code);
        document.metadata.insert("language".to_owned(), Value::Text(code.to_owned()));
    }
}
