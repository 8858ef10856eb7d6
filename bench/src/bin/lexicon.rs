//! Makes the lexicon of the verifier from the files of the lexical database WordNet 3.0.
//!
//! `lexicon FOLDER OUT` reads `index.*`, `data.*` and `cntlist.rev` from FOLDER (Debian's package `wordnet-base` has them in `/usr/share/wordnet`) and writes
//! OUT, which is `crates/core/src/verify/lexicon/english.bin`. What it holds is described in `crates/core/src/verify/lexicon/mod.rs`.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;

use logothete_core::text::stem;

const PARTS: [(&str, char); 4] = [("noun", 'n'), ("verb", 'v'), ("adj", 'a'), ("adv", 'r')];
/// The most senses of a word as one part of speech, the commonest first.
const MAX_SENSES: usize = 4;
/// So many of them are common ones.
const COMMON_SENSES: usize = 2;
/// A word is kept if it is counted so often in the texts that the database was made with, or is an ordinary one by its number of senses.
const MIN_COUNT: u32 = 1;
const NONE: u16 = u16::MAX;

type Synset = (char, u32);

/// The senses of words with one stem.
#[derive(Default)]
struct Senses {
    common: Vec<Synset>,
    rare: Vec<Synset>,
}

impl Senses {
    fn add(&mut self, synset: Synset, is_common: bool) {
        if is_common && !self.common.contains(&synset) {
            self.rare.retain(|own| *own != synset);
            self.common.push(synset);
        } else if !self.all().any(|own| own == synset) {
            self.rare.push(synset);
        }
    }

    fn all(&self) -> impl Iterator<Item = Synset> + '_ {
        self.common.iter().chain(&self.rare).copied()
    }
}

/// A set of synonyms, with those that are more general and the pairs of words that it names.
#[derive(Default)]
struct Entry {
    lemmas: Vec<String>,
    parent: Option<Synset>,
    /// Pairs of the numbers of an own lemma and a lemma of another set.
    opposite: Vec<(usize, Synset, usize)>,
    derived: Vec<(usize, Synset, usize)>,
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, out] = &arguments[..] else {
        eprintln!("give the folder of the database, and the file to write");
        return;
    };
    let folder = Path::new(folder);
    let read = |name: &str| std::fs::read_to_string(folder.join(name)).expect("a file of the database");
    let counts = counts(&read("cntlist.rev"));
    let mut entries: HashMap<Synset, Entry> = HashMap::new();
    let mut senses: BTreeMap<String, Senses> = BTreeMap::new();
    for (name, part) in PARTS {
        read(&format!("data.{name}")).lines().filter_map(|line| entry(line, part)).for_each(|(key, entry)| {
            entries.insert(key, entry);
        });
        for line in read(&format!("index.{name}")).lines().filter(|line| !line.starts_with(' ')) {
            let fields: Vec<&str> = line.split_whitespace().collect();
            let lemma = fields[0];
            let is_word = lemma.len() > 2 && lemma.bytes().all(|b| b.is_ascii_lowercase());
            let count = counts.get(lemma).copied().unwrap_or_default();
            let number: usize = fields[2].parse().expect("a number of senses");
            if !is_word || (count < MIN_COUNT && number < 2) {
                continue;
            }
            let own = senses.entry(stem(lemma)).or_default();
            for (rank, offset) in fields[fields.len() - number..].iter().take(MAX_SENSES).enumerate() {
                own.add((part, offset.parse().expect("an offset")), rank < COMMON_SENSES);
            }
        }
    }
    // Sets that two words have, or that stand above those of a word, are worth a number.
    let mut kept: BTreeSet<Synset> = senses.values().flat_map(Senses::all).collect();
    let mut above: Vec<Synset> = kept.iter().copied().collect();
    for _ in 0..2 {
        above = above.iter().filter_map(|synset| entries.get(synset)?.parent).collect();
        kept.extend(above.iter().copied());
    }
    let numbers: HashMap<Synset, u16> =
        kept.iter().enumerate().map(|(at, synset)| (*synset, u16::try_from(at).expect("fewer sets"))).collect();
    let terms: Vec<&String> = senses.keys().collect();
    let term = |lemma: &str| terms.binary_search(&&stem(lemma)).ok().and_then(|at| u16::try_from(at).ok());
    let (mut opposite, mut derived) = (BTreeSet::new(), BTreeSet::new());
    for entry in entries.values() {
        for (pairs, kind) in [(&mut opposite, &entry.opposite), (&mut derived, &entry.derived)] {
            for (own, other, place) in kind {
                let theirs = entries.get(other).and_then(|entry| entry.lemmas.get(*place));
                let (Some(a), Some(b)) = (term(&entry.lemmas[*own]), theirs.and_then(|lemma| term(lemma))) else {
                    continue;
                };
                if a != b {
                    pairs.insert((a.min(b), a.max(b)));
                }
            }
        }
    }
    let mut bytes = Vec::new();
    let text: Vec<u8> = terms.iter().map(|term| term.as_str()).collect::<Vec<_>>().join("\n").into_bytes();
    for count in [text.len(), terms.len(), numbers.len(), opposite.len(), derived.len()] {
        bytes.extend(u32::try_from(count).expect("a count").to_le_bytes());
    }
    bytes.extend(&text);
    for own in senses.values() {
        for some in [&own.common, &own.rare] {
            bytes.push(u8::try_from(some.len()).expect("few senses"));
            some.iter().for_each(|synset| bytes.extend(numbers[synset].to_le_bytes()));
        }
    }
    for synset in &kept {
        let parent = entries.get(synset).and_then(|entry| numbers.get(&entry.parent?).copied());
        bytes.extend(parent.unwrap_or(NONE).to_le_bytes());
    }
    for (a, b) in opposite.iter().chain(&derived) {
        bytes.extend(a.to_le_bytes());
        bytes.extend(b.to_le_bytes());
    }
    println!(
        "{} terms, {} sets, {} opposites, {} derived; {} bytes",
        terms.len(),
        numbers.len(),
        opposite.len(),
        derived.len(),
        bytes.len()
    );
    std::fs::write(out, bytes).expect("a file to write to");
}

/// Returns how often each lemma was counted.
fn counts(text: &str) -> HashMap<String, u32> {
    let mut counts = HashMap::new();
    for line in text.lines() {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let (Some((lemma, _)), Some(count)) = (fields[0].split_once('%'), fields.get(2)) else { continue };
        *counts.entry(lemma.to_owned()).or_default() += count.parse::<u32>().unwrap_or_default();
    }
    counts
}

/// Reads a line of `data.*`.
fn entry(line: &str, part: char) -> Option<(Synset, Entry)> {
    let fields: Vec<&str> = line.split(" | ").next()?.split_whitespace().collect();
    let offset: u32 = fields.first()?.parse().ok().filter(|_| !line.starts_with(' '))?;
    let count = usize::from_str_radix(fields.get(3)?, 16).ok()?;
    let mut entry = Entry::default();
    for at in 0..count {
        let lemma = fields[4 + 2 * at].to_lowercase();
        entry.lemmas.push(lemma.split('(').next().unwrap_or_default().to_owned());
    }
    let pointers: usize = fields.get(4 + 2 * count)?.parse().ok()?;
    for pointer in fields[5 + 2 * count..].chunks(4).take(pointers) {
        let [sign, offset, kind, places] = pointer else { continue };
        let part_of = if *kind == "s" { 'a' } else { kind.chars().next()? };
        let target = (part_of, offset.parse().ok()?);
        let own = usize::from_str_radix(&places[..2], 16).ok()?;
        let other = usize::from_str_radix(&places[2..], 16).ok()?;
        match *sign {
            "@" | "&" if entry.parent.is_none() => entry.parent = Some(target),
            // Verbs such as `give` and `take` are opposites only of the same thing.
            "!" if own > 0 && part != 'v' => entry.opposite.push((own - 1, target, other - 1)),
            "+" | "\\" if own > 0 => entry.derived.push((own - 1, target, other - 1)),
            _ => {}
        }
    }
    Some(((part, offset), entry))
}
