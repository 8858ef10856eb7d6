//! Prompts for people, exactly as they are sent.

use logothete::answer::PromptPreview;

use super::{Style, indented, width};

/// Returns a prompt exactly as it would be sent.
pub fn prompt(preview: &PromptPreview, style: Style) -> String {
    let to = match (&preview.generator, &preview.host) {
        (Some(generator), Some(host)) if !generator.contains(host) => {
            format!("{generator} would get this prompt, at {host}")
        }
        (Some(generator), _) => format!("{generator} would get this prompt"),
        (None, _) => "No model is configured; one would get this prompt".to_owned(),
    };
    let cost = preview.max_cost.map(|cost| format!(", for {cost:.4} at most")).unwrap_or_default();
    let mut out = indented(&format!("{to}. Nothing was sent."), 0);
    out.push_str(&format!(
        "{} tokens, and {} kept for the reply, of {}{cost}\n",
        preview.tokens, preview.reply_tokens, preview.context_tokens
    ));
    for (documents, what) in [(&preview.shortened, "Shortened"), (&preview.left_out, "Left out")] {
        if !documents.is_empty() {
            out.push_str(&indented(&format!("{what}: {}", documents.join(", ")), 0));
        }
    }
    for shown in &preview.messages {
        let head = format!("── {}, {} tokens ", shown.message.author.name(), shown.tokens);
        let rule = "─".repeat(width().saturating_sub(head.chars().count()));
        out.push_str(&format!("\n{}\n{}\n", style.faint(&(head + &rule)), shown.message.content));
    }
    out
}
