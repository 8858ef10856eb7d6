//! Which lines are headings, and how deep.
//!
//! A heading is set larger than the body, or bold, or between two rules, and stands apart. The tags and the outline of the file come
//! first. Otherwise the level is that of the number before the heading (`5.4.1` has level 3). Headings without a number get the level of
//! most numbered headings of the same style. If there are no numbers, styles are ranked: larger before smaller, ruled before bold.

use std::collections::{BTreeMap, HashMap};

use super::lines::Line;
use super::outline::OutlineEntry;
use super::sheet::PageLines;
use super::tags::Role;

/// A heading's type is larger than the body's by at least this factor.
const LARGER: f32 = 1.08;
/// The smallest size of a bold heading, over that of the body.
const AS_LARGE: f32 = 0.93;
/// The greatest length of a heading, in characters.
const LONGEST: usize = 150;
/// The deepest level.
const MAX_DEPTH: u8 = 6;
/// In a document with at most this number of headings, every style counts.
const FEW: usize = 8;
/// If more than this share of the lines is bold, bold does not mark headings.
const MAX_BOLD: f32 = 0.3;

/// Sizes within half a point are one.
pub(super) fn step(size: f32) -> i32 {
    (size * 2.0).round() as i32
}

/// The style of a heading, ordered from the least to the most important.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct HeadingStyle {
    size: i32,
    boxed: bool,
    bold: bool,
}

/// The level of each style of heading.
#[derive(Debug, Default)]
pub(super) struct Levels {
    body: f32,
    by_bold: bool,
    /// The least level of headings that are no larger than the body: one more than that of larger ones.
    floor: u8,
    by_style: BTreeMap<HeadingStyle, u8>,
    outline: HashMap<String, u8>,
}

impl Levels {
    /// Learns the levels from all headings of a document and from its outline.
    pub(super) fn of(pages: &[PageLines], body: f32, outline: &[OutlineEntry]) -> Self {
        let all = pages.iter().flat_map(PageLines::text_lines);
        let (bold, count) = all.fold((0, 0), |(bold, count), line| (bold + usize::from(line.bold), count + 1));
        let mut levels = Self {
            body,
            by_bold: (bold as f32) < MAX_BOLD * count as f32,
            floor: 1,
            by_style: BTreeMap::new(),
            outline: outline.iter().map(|entry| (key(&entry.title), entry.level.min(MAX_DEPTH))).collect(),
        };
        // The number of headings of each style and depth. A heading without a number counts as depth 0.
        let mut depths: BTreeMap<HeadingStyle, HashMap<u8, usize>> = BTreeMap::new();
        for page in pages {
            for (index, line) in page.lines.iter().enumerate() {
                if let Some(style) = levels.style(page, index)
                    && !levels.is_label(page, index)
                {
                    *depths.entry(style).or_default().entry(number_depth(&line.text).unwrap_or(0)).or_default() += 1;
                }
            }
        }
        levels.rank(&depths, levels.title(pages, &depths));
        levels
    }

    /// Returns the style of a title above the text of the first page: the largest, and used once. A title on a page of its own is
    /// the heading of the whole file, and the chapters have the first level.
    fn title(&self, pages: &[PageLines], depths: &BTreeMap<HeadingStyle, HashMap<u8, usize>>) -> Option<HeadingStyle> {
        let (largest, counts) = depths.last_key_value()?;
        let first = pages.first()?;
        let on_first = (0..first.lines.len()).any(|index| self.style(first, index) == Some(*largest));
        let text = first.text_lines().filter(|line| step(line.size) == step(self.body)).count();
        (counts.values().sum::<usize>() == 1 && on_first && text >= 5).then_some(*largest)
    }

    /// Gives each style a level, from the most important down.
    fn rank(&mut self, depths: &BTreeMap<HeadingStyle, HashMap<u8, usize>>, title: Option<HeadingStyle>) {
        let told = |counts: &HashMap<u8, usize>| {
            let numbered = counts.iter().filter(|(depth, _)| **depth > 0);
            numbered
                .max_by_key(|(depth, count)| (**count, **depth))
                .filter(|(_, count)| **count >= 2)
                .map(|(depth, _)| *depth)
        };
        let any_told = depths.values().any(|counts| told(counts).is_some());
        let all: usize = depths.values().flat_map(HashMap::values).sum();
        let mut level = 0;
        for (style, counts) in depths.iter().rev() {
            // The styles of a title page are used once or twice, and are not levels of their own.
            let rare = all > FEW && counts.values().sum::<usize>() < 3 && title != Some(*style);
            let by_number = told(counts).map(|depth| depth.max(self.floor));
            let own = match by_number {
                Some(depth) => depth,
                // It is larger than everything numbered, so it is a title.
                None if any_told && level == 0 => 1,
                None => level + 1,
            }
            .min(MAX_DEPTH);
            self.by_style.insert(*style, own);
            if !rare && (by_number.is_some() || !any_told || level > 0) {
                level = own;
                if style.size > step(self.body) {
                    self.floor = self.floor.max((own + 1).min(MAX_DEPTH));
                }
            }
        }
    }

    /// Returns `true` if a heading only counts the one below it: `Chapter 3`.
    fn is_label(&self, page: &PageLines, index: usize) -> bool {
        let mut words = page.lines[index].text.split_whitespace();
        let (Some(word), Some(number), None) = (words.next(), words.next(), words.next()) else { return false };
        let counted = number.chars().all(|c| c.is_numeric() || "IVXLC".contains(c)) || number.len() == 1;
        counted
            && word.chars().all(char::is_alphabetic)
            && index + 1 < page.lines.len()
            && self.style(page, index + 1).is_some_and(|next| Some(next) != self.style(page, index))
    }

    /// Returns the style of a line that is a heading by its style; `None` for other lines.
    fn style(&self, page: &PageLines, index: usize) -> Option<HeadingStyle> {
        let line = &page.lines[index];
        // The letters over the parts of an index are large, and are no headings.
        let text = head_text(line);
        let letters = text.chars().filter(|c| c.is_alphabetic()).count();
        if line.object.is_some() || text.len() > LONGEST || letters < if line.boxed { 1 } else { 3 } || line.is_entry()
        {
            return None;
        }
        let large = line.size >= self.body * LARGER;
        let bold = line.bold && self.by_bold && line.size >= self.body * AS_LARGE && stands_apart(page, index);
        (large || line.boxed || bold).then_some(HeadingStyle {
            size: step(line.size.max(self.body)),
            boxed: line.boxed,
            // The weight of larger type does not distinguish levels.
            bold: line.bold && !large,
        })
    }

    /// Returns the level of a heading; `None` for other lines.
    pub(super) fn level(&self, page: &PageLines, index: usize) -> Option<u8> {
        let line = &page.lines[index];
        if let Role::Heading(level) = line.role
            && line.object.is_none()
        {
            return Some(level);
        }
        let style = self.style(page, index);
        let is_set_off = line.bold || line.slanted || line.size > 1.04 * self.body;
        if (style.is_some() || is_set_off && stands_apart(page, index))
            && let Some(level) = self.outlined(head_text(line))
        {
            return Some(level);
        }
        let style = style?;
        if self.is_label(page, index) {
            return self.level(page, index + 1);
        }
        let floor = if style.size > step(self.body) { 1 } else { self.floor };
        let by_number = number_depth(&line.text).map(|depth| depth.max(floor));
        Some(by_number.or(self.by_style.get(&style).copied()).unwrap_or(1).clamp(1, MAX_DEPTH))
    }

    /// Returns the level that the outline gives a heading.
    pub(super) fn outlined(&self, text: &str) -> Option<u8> {
        if self.outline.is_empty() { None } else { self.outline.get(&key(text)).copied() }
    }
}

/// Returns the text of a heading without text in another style beside it.
pub(super) fn head_text(line: &Line) -> &str {
    match line.aside {
        Some(at) if line.boxed => line.text[..at].trim_end(),
        _ => &line.text,
    }
}

/// Returns `true` if a bold line is set apart like a heading: it is no sentence, has space above, and is in no run of bold
/// lines.
fn stands_apart(page: &PageLines, index: usize) -> bool {
    let line = &page.lines[index];
    let before = index.checked_sub(1).map(|before| &page.lines[before]);
    let after = page.lines.get(index + 1);
    let gap =
        before.filter(|before| before.object.is_none()).map_or(f32::INFINITY, |before| line.baseline - before.baseline);
    let spaced = gap < 0.0 || gap > 1.3 * line.size || before.is_some_and(|before| before.bold);
    let run = |step: isize| {
        (1..4).take_while(move |&far| {
            let near = index.checked_add_signed(step * far).and_then(|at| page.lines.get(at));
            near.is_some_and(|near| {
                near.bold
                    && near.object.is_none()
                    && (near.baseline - line.baseline).abs() < far as f32 * 1.6 * line.size
            })
        })
    };
    let bold_run = run(1).count() + run(-1).count();
    let sentence = line.text.ends_with(['.', ',', ';']) && number_depth(&line.text).is_none();
    spaced && bold_run < 3 && !sentence && after.is_some() && !line.text.starts_with(['•', '–', '-', '*'])
}

/// Returns a heading as it is compared: lower case, without blanks and signs, and without the number before it.
fn key(text: &str) -> String {
    let lower = text.to_lowercase();
    let words: Vec<&str> = lower.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty()).collect();
    let numbers = words.iter().take_while(|word| word.bytes().all(|b| b.is_ascii_digit())).count();
    if numbers < words.len() { words[numbers..].concat() } else { words.concat() }
}

/// Returns the depth of the number before a heading: 1 for `3`, 2 for `3.2`. A figure alone must be followed by words.
fn number_depth(text: &str) -> Option<u8> {
    let (number, rest) = text.split_once(' ')?;
    let number = number.strip_suffix('.').unwrap_or(number);
    let mut parts = number.split('.');
    let first = parts.next()?;
    // Appendices count in letters: `A.2`.
    let letter = first.len() == 1 && first.bytes().all(|b| b.is_ascii_uppercase()) && number.contains('.');
    let figure = |part: &str| (1..=3).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_digit());
    let sound = (letter || figure(first)) && parts.all(figure) && rest.contains(char::is_alphabetic);
    sound.then(|| number.split('.').count().min(usize::from(MAX_DEPTH)) as u8)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case("5.4.1 Mixed arithmetic", Some(3))]
    #[case("3 Objects", Some(1))]
    #[case("2. Channels", Some(1))]
    #[case("A.2 Loops", Some(2))]
    #[case("A walk", None)]
    #[case("1998 was dry", None)]
    #[case("3.1", None)]
    fn numbers_tell_the_depth(#[case] text: &str, #[case] expected: Option<u8>) {
        assert_eq!(super::number_depth(text), expected);
    }
}
