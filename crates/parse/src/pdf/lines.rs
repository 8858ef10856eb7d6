//! From glyphs to words, from words to lines.

use super::page::Drawn;

/// A gap of this share of the font size parts two words.
const WORD_GAP: f32 = 0.17;
/// Glyphs whose baselines differ by less than this share of the font size are on one line.
const SAME_LINE: f32 = 0.35;

/// A word on a page. Lengths are points.
#[derive(Clone, Debug)]
pub(super) struct Word {
    pub text: String,
    pub left: f32,
    pub right: f32,
    pub baseline: f32,
    pub size: f32,
}

/// A line of words.
#[derive(Clone, Debug)]
pub(super) struct Line {
    pub text: String,
    pub baseline: f32,
    /// The size of most of its characters.
    pub size: f32,
}

/// Joins glyphs into words, in the order of drawing. A blank or a gap ends a word.
pub(super) fn words(drawn: &Drawn) -> Vec<Word> {
    let mut words: Vec<Word> = Vec::new();
    let mut open = false;
    for glyph in &drawn.glyphs {
        let text = &drawn.text[glyph.start as usize..glyph.end as usize];
        if text.trim().is_empty() {
            open = false;
            continue;
        }
        if let Some(word) = words.last_mut().filter(|_| open) {
            let size = word.size.max(glyph.size);
            let gap = glyph.left - word.right;
            if (glyph.baseline - word.baseline).abs() < SAME_LINE * size && gap < WORD_GAP * size && gap > -0.6 * size {
                word.text.push_str(text);
                word.right = word.right.max(glyph.right);
                if glyph.size > word.size {
                    (word.size, word.baseline) = (glyph.size, glyph.baseline);
                }
                continue;
            }
        }
        let (left, right, baseline, size) = (glyph.left, glyph.right, glyph.baseline, glyph.size);
        words.push(Word { text: text.to_owned(), left, right, baseline, size });
        open = true;
    }
    words
}

/// Puts words on one baseline together: rows from the top of the page to its foot, each from left to right.
pub(super) fn rows(mut words: Vec<Word>) -> Vec<Vec<Word>> {
    words.sort_by(|a, b| a.baseline.total_cmp(&b.baseline));
    let mut rows: Vec<Vec<Word>> = Vec::new();
    for word in words {
        match rows.last_mut() {
            Some(row) if fits(row, &word) => row.push(word),
            _ => rows.push(vec![word]),
        }
    }
    for row in &mut rows {
        row.sort_by(|a, b| a.left.total_cmp(&b.left));
    }
    rows
}

fn fits(row: &[Word], word: &Word) -> bool {
    row.iter()
        .max_by(|a, b| a.size.total_cmp(&b.size))
        .is_some_and(|tallest| (word.baseline - tallest.baseline).abs() < SAME_LINE * tallest.size.max(word.size))
}

/// The words of a row, or of a part of one, as a line.
pub(super) fn line(words: &[Word]) -> Line {
    let longest = words.iter().max_by_key(|word| word.text.len());
    let (size, baseline) = longest.map_or((0.0, 0.0), |word| (word.size, word.baseline));
    Line { text: words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" "), baseline, size }
}
