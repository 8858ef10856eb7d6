//! Small charts made of characters: histograms, strips, and two texts side by side.

use unicode_width::UnicodeWidthStr;

use super::shortened;

/// The highest number of bars in a histogram.
const BARS: usize = 10;

/// Draws the number of sizes in each range as a bar. A limit, if there is one, decides the width of the ranges.
pub fn histogram(sizes: &[u32], limit: Option<usize>, width: usize) -> String {
    let longest = sizes.iter().copied().max().unwrap_or(0) as usize;
    let step = limit.unwrap_or(longest).max(1).div_ceil(BARS).max(1);
    let mut counts = vec![0usize; (longest.saturating_sub(1)) / step + 1];
    for size in sizes {
        counts[(*size as usize).saturating_sub(1) / step] += 1;
    }
    let most = counts.iter().copied().max().unwrap_or(1).max(1);
    let label = format!("{}–{}", longest.saturating_sub(step), longest).width().max(7);
    let room = width.saturating_sub(label + 12).max(4);
    let mut out = String::new();
    let first = counts.iter().position(|number| *number > 0).unwrap_or(0);
    for (index, &number) in counts.iter().enumerate().skip(first) {
        let bar = "█".repeat((number * room).div_ceil(most));
        let range = format!("{}–{}", index * step + 1, (index + 1) * step);
        out.push_str(format!("  {range:>label$}  {number:>5}  {bar}").trim_end());
        out.push('\n');
    }
    out
}

/// Returns a line as long as a text, with a mark where something begins.
pub fn strip(starts: &[usize], length: usize, width: usize) -> String {
    let mut marks = vec!['─'; width.max(1)];
    for start in starts {
        let at = start * marks.len() / length.max(1);
        if let Some(mark) = marks.get_mut(at) {
            *mark = if *mark == '─' { '┃' } else { '█' };
        }
    }
    marks.into_iter().collect()
}

/// Two texts beside each other, each in columns of some width.
pub fn side_by_side(left: &str, right: &str, width: usize) -> String {
    let mut out = String::new();
    let (mut left, mut right) = (left.lines(), right.lines());
    loop {
        let (a, b) = (left.next(), right.next());
        if a.is_none() && b.is_none() {
            return out;
        }
        let cell = |line: Option<&str>| match line {
            Some(line) if line.width() > width => shortened(line, width),
            line => line.unwrap_or_default().to_owned(),
        };
        let (a, b) = (cell(a), cell(b));
        let gap = " ".repeat(width.saturating_sub(a.width()));
        out.push_str(format!("{a}{gap}   {b}").trim_end());
        out.push('\n');
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_size_is_in_one_bar(sizes in prop::collection::vec(1_u32..900, 1..60), more in prop::option::of(0_usize..500), width in 30_usize..110) {
            let longest = *sizes.iter().max().expect("a size") as usize;
            let drawn = histogram(&sizes, more.map(|more| longest + more), width);
            let (mut counted, mut begins) = (0, 0);
            prop_assert!(drawn.lines().count() <= BARS);
            for line in drawn.lines() {
                prop_assert!(line.width() <= width, "{line:?} is wider than {width}");
                let mut parts = line.split_whitespace();
                let (from, to) = parts.next().and_then(|range| range.split_once('–')).expect("a range");
                let (from, to): (u32, u32) = (from.parse().expect("a number"), to.parse().expect("a number"));
                let number: usize = parts.next().expect("how many").parse().expect("a number");
                prop_assert_eq!(number, sizes.iter().filter(|size| (from..=to).contains(*size)).count());
                prop_assert_eq!(parts.next().is_some(), number > 0, "a bar for what is there");
                prop_assert!(from > begins);
                (counted, begins) = (counted + number, to);
            }
            prop_assert_eq!(counted, sizes.len());
        }

        #[test]
        fn a_strip_is_as_wide_as_it_should_be(starts in prop::collection::btree_set(0_usize..5_000, 0..40), width in 1_usize..120) {
            let starts: Vec<usize> = starts.into_iter().collect();
            let drawn = strip(&starts, 5_000, width);
            prop_assert_eq!(drawn.chars().count(), width);
            prop_assert_eq!(drawn.contains(['┃', '█']), !starts.is_empty());
            prop_assert!(drawn.chars().filter(|mark| *mark != '─').count() <= starts.len());
        }

        #[test]
        fn two_texts_stay_beside_each_other(left in prop::collection::vec("[a-z港 ]{0,30}", 0..9), right in prop::collection::vec("[a-z港 ]{0,30}", 0..9), width in 4_usize..40) {
            let drawn = side_by_side(&left.join("\n"), &right.join("\n"), width);
            prop_assert!(drawn.lines().all(|line| line.width() <= 2 * width + 3), "{drawn}");
            let lines = left.join("\n").lines().count().max(right.join("\n").lines().count());
            prop_assert_eq!(drawn.lines().count(), lines);
        }
    }

    #[test]
    fn bars_are_counted_and_marks_are_where_things_begin() {
        let drawn = histogram(&[1, 2, 9, 10, 30], Some(30), 40);
        assert_eq!(drawn.lines().count(), 10);
        assert!(drawn.starts_with("      1–3      2  █"), "{drawn}");
        assert_eq!(strip(&[0, 50, 52], 100, 10), "┃────█────");
        assert_eq!(side_by_side("a\nbb", "c", 4), "a      c\nbb\n");
        assert_eq!(histogram(&[], None, 40).lines().count(), 1);
    }
}
