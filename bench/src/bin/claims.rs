//! Fits the weights of the verifier to pairs of claims and sources, and measures it.
//!
//! `claims excerpts DEV OUT` writes the pairs of DEV, as `bench/claims` has them, and those that are made from them, as the trainer of the reader needs them.
//! `claims fit DEV READINGS OUT [TABLE]` fits the weights to these pairs and to what readers made of them that were not trained on their subjects, and writes
//! them to OUT, which is `crates/core/src/verify/learned.json`. It also prints how pairs fare with weights that were fitted to the other subjects.
//! `claims show FILE` prints, for each kind of a file of pairs, how many verdicts are right with the weights that are built in, and `claims time FILE` how long
//! it takes to hold ten claims against five passages, as after an answer.

use std::collections::BTreeSet;
use std::io::Write;
use std::time::Instant;

use logothete_bench::claims::{Counts, Encoded, Example, Pair, fit, grown, grown_weight, read};
use logothete_core::chunk::{Structure, chunks};
use logothete_core::document::{BlockKind, DocumentBuilder};
use logothete_core::search::Passage;
use logothete_core::vector::{ClaimReading, Encoder};
use logothete_core::verify::{Judge, MIN_SUPPORT, SUPPORT_NAMES, SupportModel};
use logothete_encoder::SentenceEncoder;
use serde_json::json;

const USAGE: &str = "give `excerpts DEV OUT`, `fit DEV READINGS OUT [TABLE]`, `show FILE`, or `time FILE`";

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [way, file, rest @ ..] = &arguments[..] else {
        eprintln!("{USAGE}");
        return;
    };
    let text = std::fs::read_to_string(file).expect("a file of pairs");
    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    let pairs = read(&text).expect("pairs");
    let encoded = |pairs: &[Pair]| -> Vec<Encoded> {
        pairs.iter().map(|pair| Encoded::new(pair.clone(), &encoder).expect("vectors")).collect()
    };
    match (way.as_str(), rest) {
        ("excerpts", [out]) => excerpts(&encoded(&pairs), &encoded(&grown(&pairs)), out),
        ("fit", [readings, out, table @ ..]) => {
            let readings = readings_of(readings);
            let grown = grown(&pairs);
            assert_eq!(readings.len(), pairs.len() + grown.len(), "a reading for each pair");
            let (of_written, of_grown) = readings.split_at(pairs.len());
            let counts = grown.into_iter().zip(of_grown).filter(|(pair, _)| grown_weight(pair) > 0.0);
            let (grown, of_grown): (Vec<Pair>, Vec<ClaimReading>) =
                counts.map(|(pair, reading)| (pair, *reading)).unzip();
            let (pairs, grown) = (encoded(&pairs), encoded(&grown));
            fitted((&pairs, of_written), (&grown, &of_grown), out, table.first().map(String::as_str));
        }
        ("time", []) => timed(&pairs, &encoder),
        ("show", []) => shown(&encoded(&pairs), &encoder),
        _ => eprintln!("{USAGE}"),
    }
}

/// Writes what a reader is given of each pair, a line of JSON each: those that were written first.
fn excerpts(pairs: &[Encoded], grown: &[Encoded], out: &str) {
    let mut file = std::fs::File::create(out).expect("a file to write to");
    let written = pairs.iter().map(|one| (one, true)).chain(grown.iter().map(|one| (one, false)));
    for (one, is_written) in written {
        let Pair { subject, kind, mark, claim, .. } = &one.pair;
        let line = json!({
            "subject": subject, "kind": kind, "mark": mark, "claim": claim, "source": one.excerpt(), "written": is_written,
        });
        writeln!(file, "{line}").expect("a file to write to");
    }
}

/// Reads the three probabilities of each pair, a line each.
fn readings_of(file: &str) -> Vec<ClaimReading> {
    let text = std::fs::read_to_string(file).expect("a file of readings");
    let reading = |line: &str| {
        let numbers: Vec<f32> = line.split_whitespace().map(|number| number.parse().expect("a number")).collect();
        let [supported, contradicted, unsupported] = numbers[..] else { panic!("three numbers, and not “{line}”") };
        ClaimReading { supported, contradicted, unsupported }
    };
    text.lines().map(reading).collect()
}

/// Some pairs, and what a reader made of each.
type Read<'a> = (&'a [Encoded], &'a [ClaimReading]);

fn fitted((pairs, of_written): Read<'_>, (grown, of_made): Read<'_>, out: &str, table: Option<&str>) {
    let example = |one: &Encoded, reading: &ClaimReading, weight: f32| Example {
        by_reading: one.facts(Some(reading)),
        facts: one.facts(None),
        by_words: one.facts_by_words(),
        mark: one.pair.mark,
        weight,
    };
    let written: Vec<Example> = pairs.iter().zip(of_written).map(|(one, read)| example(one, read, 1.0)).collect();
    let made: Vec<Example> =
        grown.iter().zip(of_made).map(|(one, read)| example(one, read, grown_weight(&one.pair))).collect();
    println!("{} pairs, and {} made from them", written.len(), made.len());
    let model = fit(&written.iter().chain(&made).collect::<Vec<_>>());
    std::fs::write(out, serde_json::to_string_pretty(&model).expect("JSON") + "\n").expect("a file to write to");
    let subjects: Vec<&str> =
        pairs.iter().map(|one| one.pair.subject.as_str()).collect::<BTreeSet<_>>().into_iter().collect();
    if let Some(table) = table {
        let mut file = std::fs::File::create(table).expect("a file to write to");
        for (one, example) in pairs.iter().zip(&written).chain(grown.iter().zip(&made)) {
            let pair = &one.pair;
            let line = json!({
                "subject": pair.subject, "mark": pair.mark, "kind": pair.kind, "claim": pair.claim, "weight": example.weight,
                "facts": SUPPORT_NAMES.iter().zip(example.by_reading).collect::<std::collections::BTreeMap<_, _>>(),
            });
            writeln!(file, "{line}").expect("a file to write to");
        }
    }
    let mut counts = [const { Vec::new() }; 4];
    for held in 0..8 {
        let is_held =
            |one: &Encoded| subjects.iter().position(|name| *name == one.pair.subject).is_some_and(|at| at % 8 == held);
        let others = |pairs: &[Encoded], examples: &[Example]| -> Vec<Example> {
            (0..examples.len()).filter(|at| !is_held(&pairs[*at])).map(|at| examples[at].clone()).collect()
        };
        let others = [others(pairs, &written), others(grown, &made)].concat();
        let model = fit(&others.iter().collect::<Vec<_>>());
        for (at, one) in grown.iter().enumerate().filter(|(_, one)| is_held(one)) {
            counts[1].push((&one.pair, model.by_reading.probability(&made[at].by_reading)));
        }
        for at in (0..pairs.len()).filter(|at| is_held(&pairs[*at])) {
            counts[0].push((&pairs[at].pair, model.by_reading.probability(&written[at].by_reading)));
            counts[2].push((&pairs[at].pair, model.by_meaning.probability(&written[at].facts)));
            counts[3].push((&pairs[at].pair, model.by_words.probability(&written[at].by_words)));
        }
    }
    let names = ["by weights of other subjects", "those that were made", "without a reader", "without vectors"];
    for (name, found) in names.iter().zip(&counts) {
        println!("{name}:");
        let counted = |bound: f32| {
            let mut counts = Counts::default();
            found.iter().for_each(|(pair, probability)| counts.add(pair, *probability < bound));
            counts
        };
        report(&counted(MIN_SUPPORT));
        for step in 2..=12 {
            let (bound, counts) = (step as f32 * 0.05, counted(step as f32 * 0.05));
            println!("bound {bound:.2}: F1 {:.3}, false alarms {:.3}", counts.f1(), counts.false_alarms());
        }
    }
}

fn shown(pairs: &[Encoded], encoder: &SentenceEncoder) {
    for (name, reader) in [("with the reader", encoder.claim_reader()), ("without it", None)] {
        let mut counts = Counts::default();
        for one in pairs {
            let found = one.finding(SupportModel::learned(), reader).expect("a finding");
            counts.add(&one.pair, !found.verdict.is_borne_out());
        }
        println!("{name}:");
        report(&counts);
    }
}

/// Prints how long a judge takes for ten claims, two of each of five subjects.
fn timed(pairs: &[Pair], encoder: &SentenceEncoder) {
    let mut subjects: Vec<(Passage, Vec<&str>)> = Vec::new();
    for (at, pair) in pairs.iter().enumerate() {
        if at == 0 || pairs[at - 1].evidence != pair.evidence {
            subjects.push((passage(&pair.evidence), Vec::new()));
        }
        subjects.last_mut().expect("a subject").1.push(&pair.claim);
    }
    let mut times: Vec<f64> = Vec::new();
    for group in subjects.chunks_exact(5) {
        let claims =
            group.iter().flat_map(|(passage, claims)| claims.iter().take(2).map(move |claim| (*claim, vec![passage])));
        let claims: Vec<(&str, Vec<&Passage>)> = claims.collect();
        let started = Instant::now();
        let mut judge = Judge::new(encoder);
        judge.read_ahead(&claims).expect("readings");
        for (claim, passages) in &claims {
            judge.hold(claim, passages).expect("a judgement");
        }
        times.push(started.elapsed().as_secs_f64() * 1e3);
    }
    times.sort_by(f64::total_cmp);
    let (middle, high) = (times[times.len() / 2], times[times.len() * 95 / 100]);
    println!("ten claims, {} times: median {middle:.1} ms, 95 % below {high:.1} ms", times.len());
}

fn passage(text: &str) -> Passage {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.block(BlockKind::Paragraph, text);
    let document = builder.finish();
    let chunk = chunks(&document, "a", &Structure::default()).expect("structure never fails").remove(0);
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
