//! Joins glyphs to words, and words to lines.

use logothete_core::document::{Area, InlineLink, Span, leads_to_page};

use super::drawn::Layer;
use super::stems::Weight;
use super::tags::Role;

/// A gap of this share of the font size parts two words.
const WORD_GAP: f32 = 0.17;
/// Glyphs whose baselines differ by less than this share of the font size are on one line.
const SAME_LINE: f32 = 0.35;
/// The same for small glyphs beside large ones.
const SCRIPT: f32 = 0.6;
/// Two copies of a word nearer than this share of the font size are one word, drawn twice to look bold.
const DOUBLED: f32 = 0.12;
/// Room for the letters of most words.
const WORD_BYTES: usize = 16;
/// Room for the words of most rows.
const ROW_WORDS: usize = 16;
/// Glyphs of one width differ by less than this share of the font size.
const ONE_WIDTH: f32 = 0.012;

/// A word on a page. Lengths are points.
#[derive(Clone, Debug)]
pub(super) struct Word {
    pub text: String,
    pub left: f32,
    pub right: f32,
    pub baseline: f32,
    pub size: f32,
    pub weight: Weight,
    pub slanted: bool,
    pub role: Role,
    /// The width of every glyph over the font size; 0 if the widths differ.
    pub pitch: f32,
    /// The object of the page here, in place of a word.
    pub object: Option<usize>,
}

impl Word {
    /// Stands for an object of the page while its text is put in order.
    pub(super) fn of_object(object: usize, area: Area) -> Self {
        Self {
            text: String::new(),
            left: area.left,
            right: area.right,
            baseline: area.top + 1.0,
            size: 4.0,
            weight: Weight::Unknown,
            slanted: false,
            role: Role::None,
            pitch: 0.0,
            object: Some(object),
        }
    }

    /// Returns the area of its letters.
    pub(super) fn area(&self) -> Area {
        let (top, bottom) = (self.baseline - 0.8 * self.size, self.baseline + 0.22 * self.size);
        Area { left: self.left, top, right: self.right, bottom }
    }
}

/// The place of a line in a footnote.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Note {
    #[default]
    None,
    Begins,
    GoesOn,
}

/// A line of words.
#[derive(Clone, Debug)]
pub(super) struct Line {
    pub text: String,
    pub baseline: f32,
    /// The size of most of its characters.
    pub size: f32,
    pub area: Area,
    pub bold: bool,
    pub slanted: bool,
    pub role: Role,
    /// The width of a character over the font size; 0 if the widths differ.
    pub pitch: f32,
    pub links: Vec<InlineLink>,
    /// The words that were recognised from a picture, with confidences from 0 to 1.
    pub words: Vec<(Span, f32)>,
    /// The start of text in another style after a wide gap, such as the meaning beside a headword.
    pub aside: Option<usize>,
    /// Whether it ends with a page number at the far side, like the entries of a table of contents.
    pub paged: bool,
    /// Whether there is a rule close above and another close below.
    pub boxed: bool,
    pub note: Note,
    /// The object of the page here, in place of text.
    pub object: Option<usize>,
}

impl Line {
    /// Returns `true` if it is an entry of a table of contents.
    pub(super) fn is_entry(&self) -> bool {
        self.paged || leads_to_page(&self.text)
    }
}

/// Joins glyphs into words, in the order of drawing. A blank or a gap ends a word.
pub(super) fn words(layer: &Layer) -> Vec<Word> {
    let mut words: Vec<Word> = Vec::with_capacity(layer.glyphs.len() / 5);
    let mut open = false;
    for glyph in &layer.glyphs {
        let text = &layer.text[glyph.start as usize..glyph.end as usize];
        if text.trim().is_empty() {
            open = false;
            continue;
        }
        let width = (glyph.right - glyph.left) / glyph.size;
        if let Some(word) = words.last_mut().filter(|_| open) {
            let size = word.size.max(glyph.size);
            let gap = glyph.left - word.right;
            let rise = word.baseline - glyph.baseline;
            // Small figures are raised further than the baseline of letters varies.
            let reach = if glyph.size.min(word.size) < 0.85 * size { SCRIPT } else { SAME_LINE };
            if rise.abs() < reach * size && gap < WORD_GAP * size && gap > -0.6 * size {
                // A second copy of the last glyph, a hair's breadth away.
                if gap < -(0.8 - DOUBLED) * (glyph.right - glyph.left) && word.text.ends_with(text) {
                    continue;
                }
                // A small raised figure before the word: the mark of a note.
                if glyph.size > word.size * 1.15 && rise < -0.08 * size {
                    raise(&mut word.text);
                }
                match script(text, rise / size, glyph.size / word.size) {
                    Some(small) => word.text.push(small),
                    None => word.text.push_str(text),
                }
                word.right = word.right.max(glyph.right);
                if (width - word.pitch).abs() > ONE_WIDTH {
                    word.pitch = 0.0;
                }
                if glyph.size > word.size {
                    (word.size, word.baseline) = (glyph.size, glyph.baseline);
                }
                if word.weight == Weight::Unknown {
                    (word.weight, word.slanted) = (glyph.style.weight, glyph.style.slanted);
                }
                continue;
            }
        }
        let mut first = String::with_capacity(WORD_BYTES);
        first.push_str(text);
        words.push(Word {
            text: first,
            left: glyph.left,
            right: glyph.right,
            baseline: glyph.baseline,
            size: glyph.size,
            weight: glyph.style.weight,
            slanted: glyph.style.slanted,
            role: glyph.role,
            pitch: width,
            object: None,
        });
        open = true;
    }
    words
}

/// Returns a raised or lowered small figure as a character of its own, so that `m²` does not read as `m2`.
fn script(text: &str, rise: f32, smaller: f32) -> Option<char> {
    if smaller > 0.85 || rise.abs() < 0.08 {
        return None;
    }
    let mut chars = text.chars();
    let (Some(c), None) = (chars.next(), chars.next()) else { return None };
    let digit = c.to_digit(10)?;
    if rise > 0.0 {
        "⁰¹²³⁴⁵⁶⁷⁸⁹".chars().nth(digit as usize)
    } else {
        char::from_u32('₀' as u32 + digit)
    }
}

/// Writes figures as raised ones.
fn raise(text: &mut String) {
    if text.bytes().all(|b| b.is_ascii_digit()) {
        *text = text.chars().filter_map(|c| script(c.encode_utf8(&mut [0; 4]), 1.0, 0.0)).collect();
    }
}

/// A row with more words than this is not made of raised or lowered ones.
const MAX_SCRIPTS: usize = 60;

/// Puts words on one baseline together. Rows go from the top of the page to its foot, and each from left to right. A word that was
/// drawn twice is kept once.
pub(super) fn rows(mut words: Vec<Word>) -> Vec<Vec<Word>> {
    words.sort_by(|a, b| a.baseline.total_cmp(&b.baseline));
    let mut rows: Vec<Vec<Word>> = Vec::new();
    // The baseline and the size of the tallest word of the last row.
    let mut tallest = (0.0, 0.0);
    for word in words {
        let here = (word.baseline, word.size);
        match rows.last_mut() {
            Some(row) if (here.0 - tallest.0).abs() < SAME_LINE * f32::max(here.1, tallest.1) => row.push(word),
            _ => {
                rows.push(with_room(word));
                tallest = here;
            }
        }
        if here.1 >= tallest.1 {
            tallest = here;
        }
    }
    let mut rows = with_scripts(rows);
    for row in &mut rows {
        row.sort_by(|a, b| a.left.total_cmp(&b.left));
        row.dedup_by(|later, earlier| later.text == earlier.text && later.left - earlier.left < DOUBLED * later.size);
    }
    rows
}

/// Returns a row that begins with a word and has room for others.
pub(super) fn with_room(word: Word) -> Vec<Word> {
    let mut row = Vec::with_capacity(ROW_WORDS);
    row.push(word);
    row
}

/// Puts small words that made a row of their own, because they are raised or lowered, back into the row before or after them.
fn with_scripts(rows: Vec<Vec<Word>>) -> Vec<Vec<Word>> {
    let mut kept: Vec<Vec<Word>> = Vec::with_capacity(rows.len());
    let mut rest = rows.into_iter().peekable();
    while let Some(row) = rest.next() {
        let before = kept.last().and_then(|other| distance_from(&row, other));
        let after = rest.peek().and_then(|other| distance_from(&row, other));
        match (before, after) {
            (Some(before), after) if after.is_none_or(|after| before <= after) => {
                kept.last_mut().into_iter().for_each(|last| last.extend_from_slice(&row));
            }
            (_, Some(_)) => rest.peek_mut().into_iter().for_each(|next| next.extend_from_slice(&row)),
            _ => kept.push(row),
        }
    }
    kept
}

/// Returns how far a row of small words is from a row beside whose words they stand; `None` if they do not.
fn distance_from(small: &[Word], row: &[Word]) -> Option<f32> {
    let size = small.iter().map(|word| word.size).fold(0.0, f32::max);
    let middle = small.first().map_or(0.0, |word| word.baseline);
    let large = row.iter().find(|word| word.size * 0.8 > size)?;
    let (baseline, tall) = (large.baseline, large.size);
    let distance = (baseline - middle).abs();
    let is_beside = |small: &Word| {
        row.iter().any(|word| word.left - 0.5 * tall < small.right && small.left < word.right + 0.5 * tall)
    };
    (small.len() <= MAX_SCRIPTS && distance < 0.62 * tall && small.iter().all(is_beside)).then_some(distance)
}

/// Makes a line of the words of a row, or of a part of one.
pub(super) fn line(words: &[Word]) -> Line {
    let longest = words.iter().max_by_key(|word| word.text.len());
    let (size, baseline) = longest.map_or((0.0, 0.0), |word| (word.size, word.baseline));
    let area = words.iter().map(Word::area).reduce(Area::around).unwrap_or_default();
    let mut text = String::with_capacity(words.iter().map(|word| word.text.len() + 1).sum());
    let (mut heavy, mut light, mut lean) = (0, 0, 0);
    for word in words {
        if !text.is_empty() {
            text.push(' ');
        }
        text.push_str(&word.text);
        // A raised figure alone: the mark of a note, or a power.
        if word.size < 0.85 * size && word.baseline < baseline - 0.2 * size {
            let start = text.len() - word.text.len();
            let mut mark = text.split_off(start);
            raise(&mut mark);
            text.push_str(&mark);
        }
        let length = word.text.len();
        match word.weight {
            Weight::Bold => heavy += length,
            Weight::Regular => light += length,
            Weight::Unknown => {}
        }
        lean += if word.slanted { length } else { 0 };
    }
    let pitch = if tells_pitch(&text) { one_pitch(words) } else { 0.0 };
    if pitch > 0.0 {
        text = spaced(words, pitch);
    }
    Line {
        baseline,
        size,
        area,
        bold: heavy > 0 && light * 5 < heavy,
        slanted: lean * 2 > text.len(),
        role: words.first().map_or(Role::None, |word| word.role),
        pitch,
        text,
        links: Vec::new(),
        words: Vec::new(),
        aside: None,
        paged: false,
        boxed: false,
        note: Note::None,
        object: None,
    }
}

/// Returns the width of a character over the font size if most words have the same one, or 0. A sign may be from another font.
fn one_pitch(words: &[Word]) -> f32 {
    let Some(longest) = words.iter().filter(|word| word.pitch > 0.0).max_by_key(|word| word.text.len()) else {
        return 0.0;
    };
    let alike = words.iter().filter(|word| (word.pitch - longest.pitch).abs() < ONE_WIDTH);
    let (alike, all) =
        (alike.map(|word| word.text.len()).sum::<usize>(), words.iter().map(|word| word.text.len()).sum());
    if alike * 4 >= 3 * usize::max(all, 1) { longest.pitch } else { 0.0 }
}

/// Joins words in type of one width, with as many blanks between them as fit.
fn spaced(words: &[Word], pitch: f32) -> String {
    let mut text = String::new();
    let mut end = f32::NAN;
    for word in words {
        if !text.is_empty() {
            let blanks = ((word.left - end) / (pitch * word.size)).round().clamp(1.0, 60.0) as usize;
            text.extend(std::iter::repeat_n(' ', blanks));
        }
        text.push_str(&word.text);
        end = word.right;
    }
    text
}

/// Returns `true` if equal widths mean something in this text. Figures have equal widths in most fonts.
fn tells_pitch(text: &str) -> bool {
    let narrow = text.contains(['i', 'l', 'j', 't', 'f', 'r', '.', ',', '(', '\'', '-', ':', ';', '|', '[']);
    let wide =
        text.contains(|c: char| c.is_alphabetic() && !"iljtfr".contains(c)) || text.contains(['=', '#', '<', '>']);
    narrow && wide
}

/// Notes which words of a line point somewhere.
pub(super) fn link(line: &mut Line, words: &[Word], targets: &[(Area, String)]) {
    let mut at = 0;
    for word in words {
        let span = Span::new(at, at + word.text.len());
        at = span.end + 1;
        let middle = ((word.left + word.right) / 2.0, word.baseline - 0.3 * word.size);
        let Some((_, target)) = targets.iter().find(|(area, _)| area.holds(middle.0, middle.1)) else { continue };
        match line.links.last_mut() {
            Some(last) if last.target == *target && last.span.end + 1 == span.start => last.span.end = span.end,
            _ => line.links.push(InlineLink { span, target: target.clone() }),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case("1.1 The environment ........ 2", true)]
    #[case("Preface . . . . . . iv", true)]
    #[case("It costs 5 crowns.", false)]
    #[case("See page 12", false)]
    #[case("and so on... 7", true)]
    #[case("Version 2.1", false)]
    fn leaders(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(super::leads_to_page(text), expected);
    }
}
