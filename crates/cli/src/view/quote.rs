//! Quotations with the matching words highlighted.

use logothete::document::Span;
use unicode_width::UnicodeWidthStr;

use super::Style;

/// The words of a quotation that are set off.
#[derive(Clone, Copy, Debug, Default)]
pub struct SetOff<'a> {
    /// Words that were searched for.
    pub matches: &'a [Span],
    /// Words that mean something like one of them.
    pub alike: &'a [Span],
}

/// Why a word is set off.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Mark {
    None,
    Match,
    Alike,
}

impl SetOff<'_> {
    fn mark(self, span: Span) -> Mark {
        let any = |spans: &[Span]| spans.iter().any(|other| other.overlaps(span));
        match () {
            () if any(self.matches) => Mark::Match,
            () if any(self.alike) => Mark::Alike,
            () => Mark::None,
        }
    }
}

/// Returns a quotation, wrapped and indented, with some of its words set off: underlined on a terminal; elsewhere with a line below them that has `‾`
/// under words that were searched for, and `˙` under those that mean something like them.
pub fn quotation(text: &str, set_off: SetOff<'_>, indent: usize, width: usize, style: Style) -> String {
    let mut lines: Vec<Vec<(&str, Mark)>> = vec![Vec::new()];
    let mut column = 0;
    let mut at = 0;
    for word in text.split_whitespace() {
        let start = at + text[at..].find(word).unwrap_or(0);
        at = start + word.len();
        let mark = set_off.mark(Span::new(start, at));
        if column > 0 && column + 1 + word.width() + 2 > width.saturating_sub(indent) {
            lines.push(Vec::new());
            column = 0;
        }
        column += word.width() + usize::from(column > 0);
        lines.last_mut().into_iter().for_each(|line| line.push((word, mark)));
    }
    let mut out = String::new();
    let last = lines.len() - 1;
    for (index, line) in lines.iter().enumerate() {
        let (open, close) = (if index == 0 { "“" } else { " " }, if index == last { "”" } else { "" });
        let shown = line.iter().map(|(word, mark)| match mark {
            Mark::Match => style.matched(word),
            Mark::Alike => style.alike(word),
            Mark::None => (*word).to_owned(),
        });
        out.push_str(&format!("{:indent$}{open}{}{close}\n", "", shown.collect::<Vec<_>>().join(" ")));
        if !style.is_on() && line.iter().any(|(_, mark)| *mark != Mark::None) {
            let sign = |mark: &Mark| match mark {
                Mark::Match => "‾",
                Mark::Alike => "˙",
                Mark::None => " ",
            };
            let marks: Vec<String> = line.iter().map(|(word, mark)| sign(mark).repeat(word.width())).collect();
            out.push_str(format!("{:indent$} {}", "", marks.join(" ")).trim_end());
            out.push('\n');
        }
    }
    out
}
