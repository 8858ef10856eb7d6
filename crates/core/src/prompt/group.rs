//! The prompt for a summary of texts that are alike.

use serde_json::json;

use super::templates::Templates;
use super::{Prompt, fenced};
use crate::error::Result;

/// Returns a prompt that asks for a summary of some texts together, of `max_words` words at most.
///
/// # Errors
/// If a template fails.
pub fn group_prompt(texts: &[&str], max_words: usize, templates: &Templates) -> Result<Prompt> {
    let instruction = templates.render("group_instruction", json!({ "max_words": max_words }))?;
    let texts: Vec<String> = (1..).zip(texts).map(|(number, text)| fenced(&format!("text {number}"), text)).collect();
    Ok(Prompt::new(instruction, templates.render("group_texts", json!({ "texts": texts.join("\n\n") }))?))
}
