//! The keyword index beside SQLite's FTS5: indexing, size, and three classes of query, one thread each, warm.
//!
//! `keywords PASSAGES`: made-up passages of about a hundred words, whose frequencies fall off as those of a language do (Zipf).
//! Ours is written as a corpus writes it, 50,000 rows at a time, and then merged. FTS5 has its own tokeniser and no stemming, and is
//! optimised before it is asked. Both keep positions.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::time::Instant;

use logothete_bench::median;
use logothete_bench::passages::{Random, WORDS, passages, word};
use logothete_core::keyword::{
    FieldWeights, Fields, KeywordIndex, KeywordWriter, LiveCounts, LiveKeywords, PreparedQuery, Query, merge_keywords,
};
use logothete_core::segment::RowSet;
use logothete_core::segment::whole_segment;
use logothete_core::text::Language;

const AT_ONCE: usize = 50_000;
const QUERIES: usize = 100;
const REPEATS: usize = 1;
const PLACES: usize = 10;

/// A class of query: how its words are picked from a passage, and whether all must match.
struct Class {
    name: &'static str,
    all: bool,
    /// From which place to which its words stand in the order of how frequent they are.
    ranges: Vec<(usize, usize)>,
}

fn main() {
    let count: usize = std::env::args().nth(1).and_then(|count| count.parse().ok()).unwrap_or(500_000);
    let words: Vec<String> = (0..WORDS).map(word).collect();
    let texts = passages(count, &words, 7);
    let bytes: usize = texts.iter().map(String::len).sum();
    println!("{count} passages, {} MB of text; one thread each", bytes / 1_000_000);
    let folder = tempfile::tempdir().expect("a folder");

    let since = Instant::now();
    let index = ours(&texts, folder.path());
    let our_time = since.elapsed().as_secs_f64();
    let since = Instant::now();
    let theirs = sqlite(&texts, &folder.path().join("fts5.db"));
    let their_time = since.elapsed().as_secs_f64();
    theirs.execute("INSERT INTO passages(passages) VALUES ('optimize')", []).expect("SQL");
    theirs.execute_batch("VACUUM; PRAGMA cache_size = -1000000;").expect("SQL");
    let our_size = std::fs::metadata(folder.path().join("ours")).expect("a file").len();
    let their_size = std::fs::metadata(folder.path().join("fts5.db")).expect("a file").len();
    println!("| | ours | FTS5 | ratio |\n|---|---:|---:|---:|");
    println!("| indexing, s | {our_time:.1} | {their_time:.1} | {:.2} |", their_time / our_time);
    println!(
        "| size, of the text | {:.2} | {:.2} | {:.2} |",
        our_size as f64 / bytes as f64,
        their_size as f64 / bytes as f64,
        our_size as f64 / their_size as f64
    );
    // A word of place p stands in about count × 100 / 12.2 / p passages.
    let classes = [
        Class { name: "two rare words, both", all: true, ranges: vec![(5_000, 40_000); 2] },
        Class { name: "three mixed words, any", all: false, ranges: vec![(5_000, 40_000), (200, 2_000), (5, 100)] },
        Class { name: "eight words, any", all: false, ranges: vec![(0, WORDS); 8] },
    ];
    println!("\n| class | ours, µs, median | p99 | FTS5, µs, median | p99 | ratio of medians | of p99 |");
    println!("|---|---:|---:|---:|---:|---:|---:|");
    let live = RowSet::all(count as u32);
    let counts = LiveCounts::new(&index, &live);
    let part = LiveKeywords { index: &index, live: &live, counts: &counts };
    for class in &classes {
        let queries = queries(class, &texts, &words);
        let mut plain =
            theirs.prepare("SELECT rowid FROM passages WHERE passages MATCH ? ORDER BY rank LIMIT 10").expect("SQL");
        let (mut our_times, mut their_times) = (Vec::new(), Vec::new());
        for query in &queries {
            let (mut our_own, mut their_own) = (Vec::new(), Vec::new());
            let written = query.join(if class.all { " +" } else { " " });
            let written = if class.all { format!("+{written}") } else { written };
            let matched: Vec<String> = query.iter().map(|word| format!("\"{word}\"")).collect();
            let matched = matched.join(if class.all { " AND " } else { " OR " });
            for repeat in 0..=REPEATS {
                let since = Instant::now();
                let prepared = PreparedQuery::new(&Query::parse(&written), &[part]);
                let hits = prepared.search(part, None, PLACES);
                let own = since.elapsed().as_secs_f64() * 1e6;
                let since = Instant::now();
                let rows: Vec<i64> = plain.query_map([&matched], |row| row.get(0)).expect("SQL").flatten().collect();
                let other = since.elapsed().as_secs_f64() * 1e6;
                assert_eq!(hits.len(), rows.len(), "{written}");
                if repeat > 0 {
                    our_own.push(own);
                    their_own.push(other);
                }
            }
            our_times.push(median(our_own));
            their_times.push(median(their_own));
        }
        let p99 = |times: &mut Vec<f64>| {
            times.sort_by(f64::total_cmp);
            times[times.len() * 99 / 100]
        };
        let (our_worst, their_worst) = (p99(&mut our_times), p99(&mut their_times));
        let (own, other) = (median(our_times), median(their_times));
        let name = class.name;
        println!(
            "| {name} | {own:.0} | {our_worst:.0} | {other:.0} | {their_worst:.0} | {:.4} | {:.4} |",
            own / other,
            our_worst / their_worst
        );
    }
}

/// Words that stand in one passage together, so that there is something to find.
fn queries(class: &Class, texts: &[String], words: &[String]) -> Vec<Vec<String>> {
    let places: std::collections::HashMap<&str, usize> =
        words.iter().enumerate().map(|(place, word)| (word.as_str(), place)).collect();
    let mut random = Random(99);
    let mut queries = Vec::new();
    while queries.len() < QUERIES {
        let text = &texts[random.number() as usize % texts.len()];
        let mut all: Vec<&str> = text.split([' ', '.']).filter(|word| !word.is_empty()).collect();
        let mut query: Vec<String> = Vec::new();
        for &(from, to) in &class.ranges {
            let start = random.number() as usize % all.len().max(1);
            all.rotate_left(start);
            if let Some(at) = all.iter().position(|word| (from..to).contains(&places[word])) {
                let word = all.remove(at);
                if !query.iter().any(|other| other == word) {
                    query.push(word.to_owned());
                }
            }
        }
        if query.len() == class.ranges.len() {
            queries.push(query);
        }
    }
    queries
}

fn ours(texts: &[String], folder: &Path) -> KeywordIndex<Vec<u8>> {
    let mut parts = Vec::new();
    let mut writer = KeywordWriter::new(FieldWeights::default());
    for some in texts.chunks(AT_ONCE) {
        some.iter().for_each(|text| writer.push(&Fields::body(text), Some(Language::English)));
        let bytes = whole_segment(|to| writer.write(to)).expect("a segment");
        parts.push((KeywordIndex::open(bytes).expect("a segment"), RowSet::all(some.len() as u32)));
    }
    let parts: Vec<_> = parts.iter().map(|(index, live)| (index, live)).collect();
    let bytes = whole_segment(|to| merge_keywords(&parts, to)).expect("a segment");
    let mut file = BufWriter::new(File::create(folder.join("ours")).expect("a file"));
    file.write_all(&bytes).and_then(|()| file.into_inner()?.sync_all()).expect("written");
    KeywordIndex::open(bytes).expect("a segment")
}

fn sqlite(texts: &[String], file: &Path) -> rusqlite::Connection {
    let connection = rusqlite::Connection::open(file).expect("SQLite");
    let sql = "PRAGMA journal_mode = WAL; PRAGMA cache_size = -200000; CREATE VIRTUAL TABLE passages USING fts5(text, content='');";
    connection.execute_batch(sql).expect("SQL");
    let transaction = connection.unchecked_transaction().expect("SQL");
    {
        let mut insert = transaction.prepare("INSERT INTO passages(rowid, text) VALUES (?, ?)").expect("SQL");
        for (row, text) in texts.iter().enumerate() {
            insert.execute(rusqlite::params![row as i64, text]).expect("SQL");
        }
    }
    transaction.commit().expect("SQL");
    connection
}
