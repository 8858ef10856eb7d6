//! Footnotes: small lines at the foot of a page or column that begin with a mark.

use super::lines::{Line, Note};
use super::sheet::PageLines;

/// Type smaller than the body's by this factor is small.
const SMALLER: f32 = 0.93;
/// Footnotes are below this share of the page's height.
const LOWEST_PART: f32 = 0.35;

/// Marks the lines of footnotes.
///
/// A footnote begins with a mark, in small type or close below a short rule. The lines after it in the same type, to the end of the
/// column, belong to it or to the next note.
pub(super) fn mark(page: &mut PageLines, body: f32) {
    let mut begun: Option<f32> = None;
    let (height, width) = (page.height, page.width);
    let rules: Vec<_> =
        page.rules.iter().filter(|rule| rule.level && rule.to - rule.from < 0.5 * width).copied().collect();
    let mut above: Option<(f32, f32)> = None;
    for line in &mut page.lines {
        if line.object.is_some() {
            begun = None;
            continue;
        }
        let lower = line.baseline > LOWEST_PART * height;
        let small = line.size < SMALLER * body;
        let top = line.baseline - line.size;
        let ruled = rules.iter().any(|rule| {
            rule.at < top + 2.0
                && top - rule.at < 1.6 * line.size
                && (rule.from - line.area.left).abs() < 3.0 * line.size
        });
        // Set apart from the text above.
        let apart = above.is_none_or(|(baseline, size)| line.baseline < baseline || size > line.size * 1.05)
            || ruled
            || begun.is_some();
        let goes_on = begun.is_some_and(|size| (line.size - size).abs() < 0.08 * size)
            && above.is_none_or(|(baseline, _)| line.baseline > baseline);
        let begins = lower && apart && has_mark(&line.text) && (small || ruled && line.size <= body);
        if begins {
            begun = Some(line.size);
            line.note = Note::Begins;
            part_mark(line);
        } else if goes_on && small | ruled | (begun.is_some()) {
            line.note = Note::GoesOn;
        } else {
            begun = None;
        }
        above = Some((line.baseline, line.size));
    }
}

/// Sets the mark of a note apart from its words.
fn part_mark(line: &mut Line) {
    let signs = mark_of(&line.text).chars().count();
    let Some((at, c)) = line.text.char_indices().nth(signs) else { return };
    if signs > 0 && !c.is_whitespace() {
        line.text.insert(at, ' ');
        for span in
            line.links.iter_mut().map(|link| &mut link.span).chain(line.words.iter_mut().map(|word| &mut word.0))
        {
            span.start += usize::from(span.start >= at);
            span.end += usize::from(span.end > at);
        }
    }
}

/// Returns `true` if a line begins with a mark: a raised figure, a star, a dagger, or a figure that is no list marker.
fn has_mark(text: &str) -> bool {
    let mut chars = text.chars();
    match chars.next() {
        Some('⁰'..='⁹' | '¹' | '²' | '³' | '*' | '∗' | '†' | '‡' | '§' | '¶') => true,
        Some('0'..='9') => {
            let rest = text.trim_start_matches(|c: char| c.is_ascii_digit());
            let digits = text.len() - rest.len();
            digits <= 3 && rest.starts_with([' ', ')']) && rest[1..].trim_start().starts_with(char::is_alphabetic)
        }
        _ => false,
    }
}

/// Returns the mark of a note in the text that refers to it: raised figures, or a sign.
pub(super) fn mark_of(text: &str) -> String {
    let raised = |c: char| match c {
        '0'..='9' => "⁰¹²³⁴⁵⁶⁷⁸⁹".chars().nth(c as usize - '0' as usize),
        '¹' | '²' | '³' | '⁰'..='⁹' => Some(c),
        _ => None,
    };
    let figures: String = text.chars().map_while(raised).collect();
    if figures.is_empty() { text.chars().take_while(|c| "*∗†‡§¶".contains(*c)).collect() } else { figures }
}

/// Returns `true` if a line is the running text of a page, not a note.
pub(super) fn is_text(line: &Line) -> bool {
    line.note == Note::None
}
