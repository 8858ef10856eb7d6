//! Fits the weights of the verifier to pairs of claims and sources, and measures it.
//!
//! `claims fit DEV OUT [TABLE]` fits the weights to the pairs of DEV, as `bench/claims` has them, and writes them to OUT, which is
//! `crates/core/src/verify/learned.json`. It also prints how pairs fare with weights that were fitted to the other subjects. `claims show FILE` prints, for each
//! kind of a file of pairs, how many verdicts are right with the weights that are built in. `claims time FILE` prints how long a judge takes for ten claims, two
//! of each of five sources.

use std::collections::BTreeSet;
use std::io::Write;
use std::time::Instant;

use logothete_bench::claims::{Counts, Encoded, Example, GROWN_WEIGHT, Pair, fit, grown, read};
use logothete_core::text::sentences;
use logothete_core::verify::{Judge, MIN_SUPPORT, SUPPORT_NAMES, SupportModel};
use logothete_encoder::SentenceEncoder;
use serde_json::json;

const USAGE: &str = "give `fit DEV OUT [TABLE]`, `show FILE`, or `time FILE`";

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [way, file, rest @ ..] = &arguments[..] else {
        eprintln!("{USAGE}");
        return;
    };
    let text = std::fs::read_to_string(file).expect("a file of pairs");
    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    let pairs = read(&text).expect("pairs");
    let encoded = |pairs: Vec<Pair>| -> Vec<Encoded> {
        pairs.into_iter().map(|pair| Encoded::new(pair, &encoder).expect("vectors")).collect()
    };
    match (way.as_str(), rest) {
        ("fit", [out, table @ ..]) => {
            fitted(&encoded(pairs.clone()), &encoded(grown(&pairs)), out, table.first().map(String::as_str));
        }
        ("show", _) => shown(&encoded(pairs)),
        ("time", _) => timed(&pairs, &encoder),
        _ => eprintln!("{USAGE}"),
    }
}

fn fitted(pairs: &[Encoded], grown: &[Encoded], out: &str, table: Option<&str>) {
    let example = |one: &Encoded, weight: f32| Example {
        facts: one.facts(),
        by_words: one.facts_by_words(),
        mark: one.pair.mark,
        weight,
    };
    let written: Vec<Example> = pairs.iter().map(|one| example(one, 1.0)).collect();
    let made: Vec<Example> = grown.iter().map(|one| example(one, GROWN_WEIGHT)).collect();
    println!("{} pairs, and {} made from them", written.len(), made.len());
    let model = fit(&written.iter().chain(&made).collect::<Vec<_>>());
    std::fs::write(out, serde_json::to_string_pretty(&model).expect("JSON") + "\n").expect("a file to write to");
    let subjects: Vec<&str> =
        pairs.iter().map(|one| one.pair.subject.as_str()).collect::<BTreeSet<_>>().into_iter().collect();
    let (mut counts, mut of_made, mut by_words) = (Counts::default(), Counts::default(), Counts::default());
    if let Some(table) = table {
        let mut file = std::fs::File::create(table).expect("a file to write to");
        for (one, example) in pairs.iter().zip(&written).chain(grown.iter().zip(&made)) {
            let pair = &one.pair;
            let line = json!({
                "subject": pair.subject, "mark": pair.mark, "kind": pair.kind, "claim": pair.claim, "weight": example.weight,
                "facts": SUPPORT_NAMES.iter().zip(example.facts).collect::<std::collections::BTreeMap<_, _>>(),
                "reasons": one.finding(&model).differences.iter().map(|one| &one.said).collect::<Vec<_>>(),
            });
            writeln!(file, "{line}").expect("a file to write to");
        }
    }
    for held in 0..8 {
        let is_held =
            |one: &Encoded| subjects.iter().position(|name| *name == one.pair.subject).is_some_and(|at| at % 8 == held);
        let of_others = |pairs: &[Encoded], examples: &'_ [Example]| -> Vec<usize> {
            (0..examples.len()).filter(|at| !is_held(&pairs[*at])).collect()
        };
        let others: Vec<&Example> = of_others(pairs, &written)
            .into_iter()
            .map(|at| &written[at])
            .chain(of_others(grown, &made).into_iter().map(|at| &made[at]))
            .collect();
        let model = fit(&others);
        for (at, one) in grown.iter().enumerate().filter(|(_, one)| is_held(one)) {
            of_made.add(&one.pair, model.by_meaning.probability(&made[at].facts) < MIN_SUPPORT);
        }
        for at in (0..pairs.len()).filter(|at| is_held(&pairs[*at])) {
            by_words.add(&pairs[at].pair, model.by_words.probability(&written[at].by_words) < MIN_SUPPORT);
            counts.add(&pairs[at].pair, !pairs[at].finding(&model).verdict.is_borne_out());
        }
    }
    println!("by weights of other subjects:");
    report(&counts);
    println!("those that were made:");
    report(&of_made);
    println!("without vectors:");
    report(&by_words);
}

fn shown(pairs: &[Encoded]) {
    let mut counts = Counts::default();
    for one in pairs {
        counts.add(&one.pair, !one.finding(SupportModel::learned()).verdict.is_borne_out());
    }
    report(&counts);
}

/// Prints how long a judge takes for ten claims, two of each of five sources, as after an answer.
fn timed(pairs: &[Pair], encoder: &SentenceEncoder) {
    let sources: Vec<&[Pair]> = pairs.chunk_by(|one, next| one.evidence == next.evidence).collect();
    let time = |group: &[&[Pair]]| {
        let started = Instant::now();
        let mut judge = Judge::new(encoder);
        for pair in group.iter().flat_map(|claims| claims.iter().take(2)) {
            let source = &pair.evidence;
            let parts: Vec<&str> = sentences(source).into_iter().map(|span| &source[span.range()]).collect();
            judge.hold_against(&pair.claim, &parts).expect("a judgement");
        }
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
