//! Made-up text whose words are as frequent as those of a language (Zipf).

use std::path::Path;

/// How many passages a document has.
const CHUNKS_EACH: usize = 1_000;

/// How many words there are.
pub const WORDS: usize = 200_000;

/// Numbers that look random.
#[derive(Debug)]
pub struct Random(pub u64);

impl Random {
    /// The next.
    pub fn number(&mut self) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        self.0 >> 33
    }

    fn share(&mut self) -> f64 {
        self.number() as f64 / (1_u64 << 31) as f64
    }
}

/// The word of a place in the order of how frequent words are.
pub fn word(place: usize) -> String {
    const SYLLABLES: [&str; 32] = [
        "ba", "ber", "co", "dan", "de", "el", "fi", "gor", "ha", "in", "jo", "ka", "lor", "ma", "men", "no", "or",
        "pel", "qua", "ra", "ri", "sa", "sten", "ta", "ti", "ul", "va", "vor", "we", "xi", "ya", "zu",
    ];
    let mut name = String::new();
    let mut rest = place + 32;
    while rest > 0 {
        name.push_str(SYLLABLES[rest % 32]);
        rest /= 32;
    }
    name
}

/// A place of 0 to `WORDS`, the more seldom the higher: how often is about one over the place.
fn place(random: &mut Random) -> usize {
    ((WORDS as f64).powf(random.share()) - 1.0) as usize
}

/// Made-up passages of about a hundred words.
pub fn passages(count: usize, words: &[String], seed: u64) -> Vec<String> {
    let mut random = Random(seed);
    let passage = |_| {
        let length = 60 + random.number() as usize % 81;
        let mut text = String::with_capacity(length * 8);
        for at in 0..length {
            text.push_str(&words[place(&mut random).min(WORDS - 1)]);
            text.push_str(if at % 12 == 11 { ". " } else { " " });
        }
        text
    };
    (0..count).map(passage).collect()
}

/// Writes documents of made-up passages, a section for each of about a hundred words.
///
/// # Panics
/// If the folder cannot be written.
pub fn write_documents(folder: &Path, chunks: usize) {
    std::fs::create_dir_all(folder).expect("a folder");
    let words: Vec<String> = (0..WORDS).map(word).collect();
    for number in 0..chunks.div_ceil(CHUNKS_EACH) {
        let texts = of_document(number, chunks, &words);
        let sections = texts.iter().enumerate().map(|(at, text)| format!("## Part {number}.{at}\n\n{text}\n"));
        std::fs::write(folder.join(format!("{number:04}.md")), sections.collect::<Vec<_>>().join("\n"))
            .expect("a file");
    }
}

/// Returns questions with some words of a sentence of a passage of [`write_documents`], common and seldom ones.
pub fn questions(count: usize, chunks: usize) -> Vec<String> {
    let words: Vec<String> = (0..WORDS).map(word).collect();
    let mut random = Random(7);
    let question = |_| {
        let document = random.number() as usize % chunks.div_ceil(CHUNKS_EACH);
        let texts = of_document(document, chunks, &words);
        let text = &texts[random.number() as usize % texts.len()];
        let sentence = text.split(". ").nth(2).unwrap_or_default();
        format!("What {}?", sentence.split(' ').step_by(2).collect::<Vec<_>>().join(" "))
    };
    (0..count).map(question).collect()
}

fn of_document(number: usize, chunks: usize, words: &[String]) -> Vec<String> {
    passages(CHUNKS_EACH.min(chunks - number * CHUNKS_EACH), words, number as u64)
}
