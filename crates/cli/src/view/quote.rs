//! Quotations with the matching words highlighted.

use logothete::document::Span;
use unicode_width::UnicodeWidthStr;

use super::Style;

/// Returns a quotation, wrapped and indented, with some of its words set off: underlined on a terminal, with a line of `‾`
/// below them elsewhere.
pub fn quotation(text: &str, matches: &[Span], indent: usize, width: usize, style: Style) -> String {
    let mut lines: Vec<Vec<(&str, bool)>> = vec![Vec::new()];
    let mut column = 0;
    let mut at = 0;
    for word in text.split_whitespace() {
        let start = at + text[at..].find(word).unwrap_or(0);
        at = start + word.len();
        let span = Span::new(start, at);
        let matched = matches.iter().any(|other| other.overlaps(span));
        if column > 0 && column + 1 + word.width() + 2 > width.saturating_sub(indent) {
            lines.push(Vec::new());
            column = 0;
        }
        column += word.width() + usize::from(column > 0);
        lines.last_mut().into_iter().for_each(|line| line.push((word, matched)));
    }
    let mut out = String::new();
    let last = lines.len() - 1;
    for (index, line) in lines.iter().enumerate() {
        let (open, close) = (if index == 0 { "“" } else { " " }, if index == last { "”" } else { "" });
        let shown: Vec<String> = line
            .iter()
            .map(|(word, matched)| if *matched { style.matched(word) } else { (*word).to_owned() })
            .collect();
        out.push_str(&format!("{:indent$}{open}{}{close}\n", "", shown.join(" ")));
        if !style.is_on() && line.iter().any(|(_, matched)| *matched) {
            let marks: Vec<String> =
                line.iter().map(|(word, matched)| if *matched { "‾" } else { " " }.repeat(word.width())).collect();
            out.push_str(format!("{:indent$} {}", "", marks.join(" ")).trim_end());
            out.push('\n');
        }
    }
    out
}
