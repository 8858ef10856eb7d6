//! What the measurements share: comparing two readings of a text, word by word.

pub mod boundaries;
pub mod claims;
pub mod evidence;
pub mod passages;
pub mod sets;
pub mod source;
pub mod strategies;
pub mod vectors;

use std::collections::HashMap;

/// The words of a text as they are compared: runs of letters and digits, lower-cased, words parted at a line's end mended.
pub fn words(text: &str) -> Vec<String> {
    let mended = mend(text);
    mended.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty()).map(str::to_lowercase).collect()
}

/// Joins what a hyphen parts at the end of a line.
fn mend(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("-\n") {
        out.push_str(&rest[..at]);
        rest = &rest[at + 2..];
    }
    out + rest
}

/// The harmonic mean of how many words of each side the other has, counting repetitions.
pub fn word_f1(ours: &[String], theirs: &[String]) -> f64 {
    let mut counts: HashMap<&str, i64> = HashMap::new();
    for word in theirs {
        *counts.entry(word).or_default() += 1;
    }
    let mut common = 0;
    for word in ours {
        let left = counts.entry(word).or_default();
        if *left > 0 {
            *left -= 1;
            common += 1;
        }
    }
    2.0 * f64::from(common) / (ours.len() + theirs.len()).max(1) as f64
}

/// The length of the longest common subsequence. Costs a step for every pair of words.
pub fn common_in_order(ours: &[String], theirs: &[String]) -> usize {
    let mut row = vec![0usize; theirs.len() + 1];
    for word in ours {
        let mut diagonal = 0;
        for (index, other) in theirs.iter().enumerate() {
            let above = row[index + 1];
            row[index + 1] = if word == other { diagonal + 1 } else { above.max(row[index]) };
            diagonal = above;
        }
    }
    row[theirs.len()]
}

/// The middle of some numbers.
pub fn median(mut numbers: Vec<f64>) -> f64 {
    numbers.sort_by(f64::total_cmp);
    numbers.get(numbers.len() / 2).copied().unwrap_or(f64::NAN)
}

/// A file, or all files of a folder and those in it, by name.
pub fn files(path: &std::path::Path) -> Vec<std::path::PathBuf> {
    if path.is_file() {
        return vec![path.to_owned()];
    }
    let mut entries: Vec<_> =
        std::fs::read_dir(path).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    entries.sort();
    entries.iter().flat_map(|entry| files(entry)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(text: &str) -> Vec<String> {
        words(text)
    }

    #[test]
    fn comparing_by_hand() {
        assert_eq!(list("The ves-\nsel, B-17!"), ["the", "vessel", "b", "17"]);
        let (ours, theirs) = (list("a b c d"), list("a c b d e"));
        assert!((word_f1(&ours, &theirs) - 8.0 / 9.0).abs() < 1e-12);
        assert_eq!(common_in_order(&ours, &theirs), 3);
        assert_eq!(median(vec![3.0, 1.0, 2.0]), 2.0);
    }
}
