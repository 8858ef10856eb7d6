//! Fits the weights of the verifier to pairs of claims and sources, and measures it.
//!
//! `claims lines PAIRS OUT` writes the pairs, as `bench/claims` has them, and those that are made from them as lines of JSON; `claims vectors LINES OUT` writes the vectors of
//! such lines. `bench/claims/train.py` reads both, and trains the network. `claims fit PAIRS READINGS OUT` grows the trees from the pairs and what networks told of them that had not
//! seen their subjects, and writes OUT, which is `crates/core/src/verify/learned.json`; it also prints how pairs fare by trees of the other subjects.
//! `claims show PAIRS` prints, for each kind, how many verdicts are right with what is built in. `claims facts PAIRS [READINGS]` prints a line for each pair, with READINGS also
//! for those that are made from them: what it is, its verdict, what was measured, and the differences that the rules found, between tabs. `claims time PAIRS` prints how long a judge takes for ten claims, two
//! of each of five sources.

use std::collections::BTreeSet;
use std::time::Instant;

use logothete_bench::claims::{
    Counts, Encoded, Example, GROWN_WEIGHT, Pair, as_lines, fit, grown, read, write_vectors,
};
use logothete_core::chunk::{Structure, chunks};
use logothete_core::document::{BlockKind, DocumentBuilder};
use logothete_core::search::Passage;
use logothete_core::verify::{HeldClaim, Judge, MIN_SUPPORT, SupportModel};
use logothete_encoder::SentenceEncoder;

const USAGE: &str = "give `lines PAIRS OUT`, `vectors LINES OUT`, `fit PAIRS READINGS OUT`, `show PAIRS`, `facts PAIRS [READINGS]`, or `time PAIRS`";

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [way, file, rest @ ..] = &arguments[..] else {
        eprintln!("{USAGE}");
        return;
    };
    let text = std::fs::read_to_string(file).expect("a file of pairs");
    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    if let ("vectors", [out]) = (way.as_str(), rest) {
        let file = std::fs::File::create(out).expect("a file to write to");
        write_vectors(&text, &encoder, std::io::BufWriter::new(file)).expect("vectors");
        return;
    }
    let pairs = read(&text).expect("pairs");
    let encoded = |pairs: Vec<Pair>| -> Vec<Encoded> {
        pairs.into_iter().map(|pair| Encoded::new(pair, &encoder).expect("vectors")).collect()
    };
    match (way.as_str(), rest) {
        ("fit", [readings, out]) => {
            let readings = read_readings(readings);
            fitted(&encoded(pairs.clone()), &encoded(grown(&pairs)), &readings, out);
        }
        ("show", _) => shown(&encoded(pairs)),
        ("facts", []) => encoded(pairs).iter().for_each(|one| print_facts(one, one.held())),
        ("facts", [readings]) => {
            let readings = read_readings(readings);
            let all = encoded([pairs.clone(), grown(&pairs)].concat());
            let known = all.iter().zip(&readings);
            known.for_each(|(one, reading)| print_facts(one, one.held_with(*reading)));
        }
        ("time", _) => timed(&pairs, &encoder),
        ("lines", [out]) => std::fs::write(out, as_lines(&pairs)).expect("a file to write to"),
        _ => eprintln!("{USAGE}"),
    }
}

/// Fits the trees to pairs and those made from them, with what networks tell that have not seen their subjects, and measures them by other subjects.
fn fitted(pairs: &[Encoded], grown: &[Encoded], readings: &[[f32; 3]], out: &str) {
    assert_eq!(readings.len(), pairs.len() + grown.len(), "a reading for each pair, written or made");
    let examples = |all: &[Encoded], readings: &[[f32; 3]], weight: f32| -> Vec<Example> {
        let of = |(one, reading): (&Encoded, &[f32; 3])| Example {
            held: one.held_with(*reading),
            by_words: one.held_by_words(),
            mark: one.pair.mark,
            weight,
        };
        all.iter().zip(readings).map(of).collect()
    };
    let written = examples(pairs, &readings[..pairs.len()], 1.0);
    let made = examples(grown, &readings[pairs.len()..], GROWN_WEIGHT);
    println!("{} pairs, and {} made from them", written.len(), made.len());
    let model = fit(&written.iter().chain(&made).collect::<Vec<_>>());
    std::fs::write(out, serde_json::to_string(&model).expect("JSON") + "\n").expect("a file to write to");
    let subjects: Vec<&str> =
        pairs.iter().map(|one| one.pair.subject.as_str()).collect::<BTreeSet<_>>().into_iter().collect();
    let mut counts: [Counts; 4] = Default::default();
    for held in 0..8 {
        let is_held =
            |one: &Encoded| subjects.iter().position(|name| *name == one.pair.subject).is_some_and(|at| at % 8 == held);
        let all = || pairs.iter().zip(&written).chain(grown.iter().zip(&made));
        let others: Vec<&Example> = all().filter(|(one, _)| !is_held(one)).map(|(_, example)| example).collect();
        let model = fit(&others);
        for (one, example) in pairs.iter().zip(&written).filter(|(one, _)| is_held(one)) {
            let is_doubted = |held: &HeldClaim| !held.clone().finding(&model).verdict.is_borne_out();
            counts[0].add(&one.pair, is_doubted(&example.held));
            counts[1].add(&one.pair, model.by_meaning.probability(&example.held.facts) < MIN_SUPPORT);
            counts[2].add(&one.pair, is_doubted(&example.by_words));
        }
        for (one, example) in grown.iter().zip(&made).filter(|(one, _)| is_held(one)) {
            counts[3].add(&one.pair, !example.held.clone().finding(&model).verdict.is_borne_out());
        }
    }
    for (counts, name) in counts.iter().zip(["written", "without the network", "without vectors", "made"]) {
        println!("{name}, by trees of other subjects:");
        report(counts);
    }
}

/// Reads the three chances of each line that `train.py` writes.
fn read_readings(file: &str) -> Vec<[f32; 3]> {
    let text = std::fs::read_to_string(file).expect("a file of readings");
    let reading = |line: &str| -> [f32; 3] {
        let chances: Vec<f32> = line.split(' ').map(|chance| chance.parse().expect("a chance")).collect();
        chances.try_into().expect("three chances")
    };
    text.lines().map(reading).collect()
}

fn shown(pairs: &[Encoded]) {
    let mut counts = Counts::default();
    for one in pairs {
        counts.add(&one.pair, !one.held().finding(SupportModel::learned()).verdict.is_borne_out());
    }
    report(&counts);
}

fn print_facts(one: &Encoded, held: HeldClaim) {
    let facts = held.facts.map(|fact| format!("{fact:.3}")).join(" ");
    let finding = held.finding(SupportModel::learned());
    let said: Vec<String> = finding
        .differences
        .iter()
        .map(|found| format!("{:?} {:.2} {}", found.kind, found.degree, found.said))
        .collect();
    let Pair { subject, kind, mark, claim, evidence } = &one.pair;
    let (verdict, chance) = (finding.verdict, finding.probability);
    println!("{subject}\t{mark}\t{kind}\t{verdict:?}\t{chance:.3}\t{facts}\t{}\t{claim}\t{evidence}", said.join("; "));
}

/// Prints how long a judge takes for ten claims, two of each of five sources, as after an answer.
fn timed(pairs: &[Pair], encoder: &SentenceEncoder) {
    let sources: Vec<&[Pair]> = pairs.chunk_by(|one, next| one.evidence == next.evidence).collect();
    let time = |group: &[&[Pair]]| {
        let passages: Vec<Passage> = group.iter().map(|claims| passage(&claims[0].evidence)).collect();
        let claims = group
            .iter()
            .zip(&passages)
            .flat_map(|(claims, passage)| claims.iter().take(2).map(move |pair| (pair.claim.as_str(), vec![passage])));
        let claims: Vec<(&str, Vec<&Passage>)> = claims.collect();
        let started = Instant::now();
        Judge::new(encoder).hold_all(&claims).expect("judgements");
        started.elapsed().as_secs_f64() * 1e3
    };
    let mut times: Vec<f64> = sources.chunks_exact(5).map(time).collect();
    if times.is_empty() {
        eprintln!("a file of fewer than five sources tells no time");
        return;
    }
    times.sort_by(f64::total_cmp);
    let at = |share: usize| times[times.len() * share / 100];
    println!("ten claims, {} times: median {:.1} ms, 95 % below {:.1} ms", times.len(), at(50), at(95));
}

/// Returns a text as the passage that a search would find.
fn passage(text: &str) -> Passage {
    let mut builder = DocumentBuilder::new("source.txt", "text/plain");
    builder.block(BlockKind::Paragraph, text);
    let document = builder.finish();
    let chunk = chunks(&document, "source", &Structure::default()).expect("one chunk at least").remove(0);
    Passage::from_chunk(chunk, &document)
}

fn report(counts: &Counts) {
    println!("| kind | pairs | right |\n|---|---:|---:|");
    for (kind, (pairs, right)) in &counts.kinds {
        println!("| {kind} | {pairs} | {:.0} % |", 100.0 * *right as f64 / *pairs as f64);
    }
    println!(
        "F1 of not supported {:.3}, recall {:.3}, false alarms {:.3}",
        counts.f1(),
        counts.recall(),
        counts.false_alarms()
    );
}
