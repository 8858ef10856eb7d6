//! Which lines are headings, and how deep.
//!
//! A heading is set larger than the body. Its level comes from its number (`5.4.1` is three deep) where it has one; other
//! headings of the same size get the level that most numbered ones of that size have; without any numbers the sizes are
//! ranked.

use std::collections::HashMap;

use super::lines::Line;
use super::sheet::PageLines;

/// A heading's type is larger than the body's by at least this factor.
const LARGER: f32 = 1.08;
/// A heading is no longer than this, in characters.
const LONGEST: usize = 150;
/// No heading is deeper.
const DEEPEST: u8 = 6;

/// Sizes within half a point are one.
pub(super) fn step(size: f32) -> i32 {
    (size * 2.0).round() as i32
}

/// The level of each size of heading.
#[derive(Debug, Default)]
pub(super) struct Levels {
    body: f32,
    by_size: HashMap<i32, u8>,
}

impl Levels {
    /// Looks at all the headings of a document.
    pub(super) fn of(pages: &[PageLines], body: f32) -> Self {
        let lines = pages.iter().flat_map(|page| &page.lines).filter(|line| looks_like_heading(line, body));
        // How many headings of each size have a number of each depth; no number counts as depth 0.
        let mut depths: HashMap<i32, HashMap<u8, usize>> = HashMap::new();
        for line in lines {
            let of_size = depths.entry(step(line.size)).or_default();
            *of_size.entry(number_depth(&line.text).unwrap_or(0)).or_default() += 1;
        }
        let mut sizes: Vec<i32> = depths.keys().copied().collect();
        sizes.sort_unstable_by(|a, b| b.cmp(a));
        let told = |size: &i32| {
            let numbered = depths[size].iter().filter(|(depth, _)| **depth > 0);
            numbered
                .max_by_key(|(depth, count)| (**count, **depth))
                .filter(|(_, count)| **count >= 2)
                .map(|(depth, _)| *depth)
        };
        let any_told = sizes.iter().any(|size| told(size).is_some());
        let mut by_size = HashMap::new();
        let mut level = 0;
        for (rank, size) in sizes.iter().enumerate() {
            level = match told(size) {
                Some(depth) => depth,
                // Larger than everything numbered: a title. Smaller than something numbered: one deeper.
                None if any_told => (level + u8::from(level > 0)).max(1),
                None => u8::try_from(rank + 1).unwrap_or(DEEPEST),
            }
            .min(DEEPEST);
            by_size.insert(*size, level);
        }
        Self { body, by_size }
    }

    /// The level of a heading; nothing for a line that is none.
    pub(super) fn level(&self, line: &Line) -> Option<u8> {
        if !looks_like_heading(line, self.body) {
            return None;
        }
        let by_size = self.by_size.get(&step(line.size)).copied();
        Some(number_depth(&line.text).or(by_size).unwrap_or(1).clamp(1, DEEPEST))
    }
}

fn looks_like_heading(line: &Line, body: f32) -> bool {
    // The letters over the parts of an index are set large, and head nothing.
    let letters = line.text.chars().filter(|c| c.is_alphabetic()).count();
    line.size >= body * LARGER && line.text.len() <= LONGEST && letters >= 3 && !has_leader(&line.text)
}

/// How deep the number before a heading is: `3` is 1, `3.2` is 2. A figure alone must be followed by words.
fn number_depth(text: &str) -> Option<u8> {
    let (number, rest) = text.split_once(' ')?;
    let number = number.strip_suffix('.').unwrap_or(number);
    let mut parts = number.split('.');
    let first = parts.next()?;
    // Appendices count in letters: `A.2`.
    let letter = first.len() == 1 && first.bytes().all(|b| b.is_ascii_uppercase()) && number.contains('.');
    let figure = |part: &str| (1..=3).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_digit());
    let sound = (letter || figure(first)) && parts.all(figure) && rest.contains(char::is_alphabetic);
    sound.then(|| number.split('.').count().min(usize::from(DEEPEST)) as u8)
}

/// Whether a line ends as the entries of a table of contents do: dots that lead to a page.
pub(super) fn has_leader(text: &str) -> bool {
    let bare = text.trim_end();
    let page = bare.trim_end_matches(|c: char| c.is_ascii_digit() || matches!(c, 'i' | 'v' | 'x' | 'l'));
    let dots = page.trim_end();
    let led = dots.len() - dots.trim_end_matches(['.', ' ', '·', '…']).len();
    page.len() < bare.len() && led >= 2 && dots.ends_with(['.', '·', '…'])
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

    #[rstest]
    #[case("1.1 The environment ........ 2", true)]
    #[case("Preface . . . . . . iv", true)]
    #[case("It costs 5 crowns.", false)]
    #[case("See page 12", false)]
    #[case("and so on... 7", true)]
    #[case("Version 2.1", false)]
    fn leaders(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(super::has_leader(text), expected);
    }
}
