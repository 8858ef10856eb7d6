//! Reading `tokenizer.json`.

use logothete_core::{Error, ErrorKind, Result};
use serde_json::Value;

use super::{Normaliser, Tokeniser, Vocabulary, WordPiece, WordPieceSettings};

/// Returns the tokeniser that a `tokenizer.json` describes.
///
/// # Errors
/// If it is not JSON, or of a kind that is not read; the message names the key.
pub fn read(bytes: &[u8]) -> Result<Tokeniser> {
    let json: Value = serde_json::from_slice(bytes)
        .map_err(|e| Error::new(ErrorKind::Unreadable, "it is not JSON; get the file again").because(e))?;
    match (kind(&json["model"]), kind(&json["normalizer"]), kind(&json["pre_tokenizer"])) {
        ("WordPiece", "BertNormalizer" | "", "BertPreTokenizer") => Ok(Tokeniser::WordPiece(word_piece(&json)?)),
        #[cfg(feature = "tokenizers")]
        _ => Ok(Tokeniser::Other(Box::new(super::other::Other::new(bytes)?))),
        #[cfg(not(feature = "tokenizers"))]
        (model, normaliser, splitter) => {
            let message = format!(
                "a tokeniser of the kind “{model}” with “{normaliser}” and “{splitter}” is not read by this build; word \
                 pieces of BERT are. Build with the feature `tokenizers` for all others"
            );
            Err(Error::new(ErrorKind::Unsupported, message))
        }
    }
}

fn kind(value: &Value) -> &str {
    value["type"].as_str().unwrap_or_default()
}

fn missing(key: &str) -> Error {
    Error::new(ErrorKind::Unreadable, format!("key “{key}” is missing, or not of the type it should be"))
}

fn word_piece(json: &Value) -> Result<WordPiece> {
    let model = &json["model"];
    let words = model["vocab"].as_object().ok_or_else(|| missing("model.vocab"))?;
    let mut pieces = vec![""; words.len()];
    for (piece, token) in words {
        let slot = token.as_u64().and_then(|token| pieces.get_mut(usize::try_from(token).ok()?));
        *slot.ok_or_else(|| missing(&format!("model.vocab.{piece}")))? = piece;
    }
    let token = |name: &str| words.get(name).and_then(Value::as_u64).map(|token| token as u32);
    let unknown = model["unk_token"].as_str().and_then(token).ok_or_else(|| missing("model.unk_token"))?;
    let mark = model["continuing_subword_prefix"].as_str().unwrap_or("##");
    let literal = json["added_tokens"].as_array().into_iter().flatten();
    let literal = literal.map(|added| {
        let token = added["id"].as_u64().ok_or_else(|| missing("added_tokens.id"))?;
        let content = added["content"].as_str().filter(|content| !content.is_empty());
        Ok((content.ok_or_else(|| missing("added_tokens.content"))?.to_owned(), token as u32))
    });
    let (before, after) = ends(&json["post_processor"])?;
    let settings = WordPieceSettings {
        normaliser: normaliser(&json["normalizer"]),
        unknown,
        longest_word: model["max_input_chars_per_word"].as_u64().unwrap_or(100) as usize,
        before,
        after,
        literal: literal.collect::<Result<_>>()?,
    };
    Ok(WordPiece::new(Vocabulary::new(pieces, mark), settings))
}

fn normaliser(json: &Value) -> Normaliser {
    if json.is_null() {
        return Normaliser { clean: false, single_ideographs: false, strip_accents: false, lowercase: false };
    }
    let set = |key: &str| json[key].as_bool();
    let lowercase = set("lowercase").unwrap_or(true);
    Normaliser {
        clean: set("clean_text").unwrap_or(true),
        single_ideographs: set("handle_chinese_chars").unwrap_or(true),
        // Unless it is said, accents go where capitals go.
        strip_accents: set("strip_accents").unwrap_or(lowercase),
        lowercase,
    }
}

/// Returns the tokens before and after a text.
fn ends(json: &Value) -> Result<(Vec<u32>, Vec<u32>)> {
    let number = |value: &Value| value.as_u64().map(|token| token as u32);
    match kind(json) {
        "" => Ok((Vec::new(), Vec::new())),
        "TemplateProcessing" => {
            let mut ends = (Vec::new(), Vec::new());
            let mut behind = false;
            for part in json["single"].as_array().ok_or_else(|| missing("post_processor.single"))? {
                if part.get("Sequence").is_some() {
                    behind = true;
                    continue;
                }
                let name = part["SpecialToken"]["id"].as_str().unwrap_or_default();
                let ids = json["special_tokens"][name]["ids"].as_array();
                let ids = ids.ok_or_else(|| missing(&format!("post_processor.special_tokens.{name}")))?;
                let end = if behind { &mut ends.1 } else { &mut ends.0 };
                end.extend(ids.iter().filter_map(number));
            }
            Ok(ends)
        }
        "BertProcessing" | "RobertaProcessing" => {
            let end = |key: &str| number(&json[key][1]).ok_or_else(|| missing(&format!("post_processor.{key}")));
            Ok((vec![end("cls")?], vec![end("sep")?]))
        }
        other => {
            let message = format!("a post_processor of the kind “{other}” is not read");
            Err(Error::new(ErrorKind::Unsupported, message))
        }
    }
}
