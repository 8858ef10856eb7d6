//! Writing HTML: all text from outside is escaped here.

use std::collections::HashSet;

use logothete::keyword::query_terms;
use logothete::text::words;

const STYLE: &str = include_str!("page.css");

/// Returns a whole page. The title is escaped here; the style and the content must be sound.
pub(crate) fn page(title: &str, style: &str, content: &str) -> String {
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width\">\n\
         <meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'\">\n\
         <title>{}</title>\n<style>\n{STYLE}{style}</style>\n</head>\n<body>\n<main>\n{content}</main>\n</body>\n</html>\n",
        escaped(title)
    )
}

/// Returns a section with a heading; empty if it has no content.
pub(crate) fn section(title: &str, content: &str) -> String {
    match content {
        "" => String::new(),
        content => format!("<section>\n<h2>{title}</h2>\n{content}</section>\n"),
    }
}

/// Returns a text in which no character means anything to HTML, and characters that would reorder it are shown as a sign.
pub(crate) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + text.len() / 8);
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c => out.push(harmless(c)),
        }
    }
    out
}

/// Returns a sign in place of a character that reorders text or controls a terminal.
pub(crate) fn harmless(c: char) -> char {
    match c {
        '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => '\u{fffd}',
        c if c.is_control() && c != '\n' && c != '\t' => '\u{fffd}',
        c => c,
    }
}

/// Returns a text with the words marked whose terms a question has.
pub(crate) fn matched(text: &str, question: &str) -> String {
    let terms: HashSet<String> = query_terms(question).into_iter().collect();
    let base = text.as_ptr() as usize;
    let (mut out, mut end) = (String::new(), 0);
    for word in words(text).filter(|word| terms.contains(&word.term)) {
        let start = word.text.as_ptr() as usize - base;
        out.push_str(&escaped(&text[end..start]));
        out.push_str(&format!("<mark>{}</mark>", escaped(word.text)));
        end = start + word.text.len();
    }
    out + &escaped(&text[end..])
}

/// Returns an answer with its markers as links to the sources.
pub(crate) fn linked(answer: &str, markers: &[usize]) -> String {
    let mut out = escaped(answer);
    for marker in markers {
        out = out.replace(&format!("[{marker}]"), &format!("<a href=\"#source-{marker}\">[{marker}]</a>"));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_from_outside_stays_text() {
        assert_eq!(escaped("<b a='1'>&\u{202e}\u{7}"), "&lt;b a=&#39;1&#39;&gt;&amp;\u{fffd}\u{fffd}");
        assert_eq!(matched("<i>Lamps</i> burn.", "Where is the lamp?"), "&lt;i&gt;<mark>Lamps</mark>&lt;/i&gt; burn.");
        assert_eq!(linked("Lit. [1] [12]", &[1]), "Lit. <a href=\"#source-1\">[1]</a> [12]");
    }
}
