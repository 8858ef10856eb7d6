//! Judgements and rankings in the formats of TREC: `qrels` (`question 0 document grade`) and `run` (`question Q0 document rank score
//! tag`), a line each, separated by white space.
//!
//! White space and `%` in names are written as in addresses, such as `%20`.

use std::collections::{BTreeMap, HashMap};

use super::ranking::{JudgedPlace, JudgedRanking};
use crate::error::{Error, ErrorKind, Result};

/// How relevant a document is to a question.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Judgement {
    /// The id of the question.
    pub question: String,
    /// The name of the document.
    pub document: String,
    /// How relevant it is; 0 means not at all.
    pub grade: u32,
}

/// A document of a ranking.
#[derive(Clone, Debug, PartialEq)]
pub struct RankedDocument {
    /// The id of the question.
    pub question: String,
    /// The name of the document.
    pub document: String,
    /// Its score; the higher, the earlier.
    pub score: f64,
}

/// Reads judgements. Negative grades mean 0. Empty lines are skipped.
///
/// # Errors
/// If a line cannot be read, or judges a document that an earlier line has judged; the place is the line's number.
pub fn read_qrels(text: &str) -> Result<Vec<Judgement>> {
    let mut seen = HashMap::new();
    lines(text, |fields, number| {
        let [question, _, document, grade] = fields else { return Err("question, 0, document, grade".to_owned()) };
        let grade: i64 = grade.parse().map_err(|_| format!("a number as grade, not {grade:?}"))?;
        if let Some(earlier) = seen.insert((question.to_string(), document.to_string()), number) {
            return Err(format!("one judgement of each document; line {earlier} has it"));
        }
        let grade = u32::try_from(grade.max(0)).unwrap_or(u32::MAX);
        Ok(Judgement { question: plain(question), document: plain(document), grade })
    })
}

/// Reads a ranking. The order is that of the scores, as is usual with this format, not of the ranks. Empty lines are skipped.
///
/// # Errors
/// If a line cannot be read; the place is the line's number.
pub fn read_run(text: &str) -> Result<Vec<RankedDocument>> {
    lines(text, |fields, _| {
        let [question, _, document, _, score, _] = fields else {
            return Err("question, Q0, document, rank, score, tag".to_owned());
        };
        let score: f64 = score
            .parse()
            .ok()
            .filter(|score: &f64| score.is_finite())
            .ok_or_else(|| format!("a number as score, not {score:?}"))?;
        Ok(RankedDocument { question: plain(question), document: plain(document), score })
    })
}

/// Returns judgements as text.
pub fn write_qrels(judgements: &[Judgement]) -> String {
    let line = |judgement: &Judgement| {
        format!("{} 0 {} {}\n", coded(&judgement.question), coded(&judgement.document), judgement.grade)
    };
    judgements.iter().map(line).collect()
}

/// Returns a ranking as text, ranked by score within each question. `tag` names the pipeline.
pub fn write_run(ranked: &[RankedDocument], tag: &str) -> String {
    let mut out = String::new();
    for (question, documents) in by_question(ranked) {
        for (at, ranked) in documents.iter().enumerate() {
            let RankedDocument { document, score, .. } = ranked;
            out += &format!("{} Q0 {} {} {score} {}\n", coded(question), coded(document), at + 1, coded(tag));
        }
    }
    out
}

/// Compares a ranking with judgements. Returns the ranking of each question that has something relevant, by its id. Questions that the
/// ranking does not have count too: nothing was found for them.
pub fn judged(judgements: &[Judgement], ranked: &[RankedDocument]) -> BTreeMap<String, JudgedRanking> {
    let rankings = by_question(ranked);
    let mut judged: BTreeMap<String, JudgedRanking> = BTreeMap::new();
    for Judgement { question, document, grade } in judgements.iter().filter(|judgement| judgement.grade > 0) {
        let documents = rankings.get(question.as_str()).map(Vec::as_slice).unwrap_or_default();
        let place = documents.iter().position(|ranked| ranked.document == *document);
        let place = JudgedPlace { grade: *grade, ranks: place.map(|at| at + 1).into_iter().collect() };
        judged.entry(question.clone()).or_default().places.push(place);
    }
    judged
}

/// Returns the documents of each question, the best first.
fn by_question(ranked: &[RankedDocument]) -> BTreeMap<&str, Vec<&RankedDocument>> {
    let mut questions: BTreeMap<&str, Vec<&RankedDocument>> = BTreeMap::new();
    for document in ranked {
        questions.entry(&document.question).or_default().push(document);
    }
    questions.values_mut().for_each(|documents| documents.sort_by(|a, b| b.score.total_cmp(&a.score)));
    questions
}

fn lines<T>(text: &str, mut read: impl FnMut(&[&str], usize) -> std::result::Result<T, String>) -> Result<Vec<T>> {
    let numbered = text.trim_start_matches('\u{feff}').lines().enumerate().map(|(at, line)| (at + 1, line));
    let full = numbered.filter(|(_, line)| !line.trim().is_empty());
    full.map(|(number, line)| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        read(&fields, number).map_err(|wanted| {
            Error::new(ErrorKind::Unreadable, format!("a line has {wanted}")).at(format!("line {number}"))
        })
    })
    .collect()
}

fn coded(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for c in name.chars() {
        if c.is_whitespace() || c == '%' {
            let mut bytes = [0; 4];
            c.encode_utf8(&mut bytes).bytes().for_each(|byte| out += &format!("%{byte:02X}"));
        } else {
            out.push(c);
        }
    }
    out
}

/// Returns a name as it was before [`coded`]. Other text stays as it is.
fn plain(coded: &str) -> String {
    let bytes = coded.as_bytes();
    let (mut out, mut at) = (Vec::with_capacity(bytes.len()), 0);
    while at < bytes.len() {
        let code = bytes.get(at + 1..at + 3).and_then(|code| std::str::from_utf8(code).ok());
        match code.and_then(|code| u8::from_str_radix(code, 16).ok()).filter(|_| bytes[at] == b'%') {
            Some(byte) => {
                out.push(byte);
                at += 3;
            }
            None => {
                out.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8(out).unwrap_or_else(|_| coded.to_owned())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[test]
    fn a_ranking_is_compared_with_judgements() {
        let judgements = read_qrels("q1 0 a.md 2\n\nq1 0 b.md 0\nq1 0 c%20d.md 1\nq2 0 a.md 1\n").expect("judgements");
        let run = read_run("q1 Q0 b.md 2 0.5 x\nq1\tQ0 a.md 1 0.9 x\nq1 Q0 c%20d.md 9 0.1 x\n").expect("a ranking");
        let judged = judged(&judgements, &run);
        let expected = [JudgedPlace { grade: 2, ranks: vec![1] }, JudgedPlace { grade: 1, ranks: vec![3] }];
        assert_eq!(judged["q1"].places, expected);
        assert_eq!((judged["q2"].first_rank(), judged.len()), (None, 2));
    }

    #[rstest]
    #[case("q1 0 a.md\n", "line 1: a line has question, 0, document, grade")]
    #[case("\nq1 0 a.md high\n", "line 2: a line has a number as grade, not \"high\"")]
    #[case("q1 0 a 1\nq1 0 a 0\n", "line 2: a line has one judgement of each document; line 1 has it")]
    fn lines_that_are_no_judgements(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(read_qrels(text).expect_err("a mistake").to_string(), expected);
    }

    #[rstest]
    #[case("q1 Q0 a 1 high x\n", "line 1: a line has a number as score, not \"high\"")]
    #[case("q1 Q0 a 1 NaN x\n", "line 1: a line has a number as score, not \"NaN\"")]
    #[case("q1 a 1\n", "line 1: a line has question, Q0, document, rank, score, tag")]
    fn lines_of_no_ranking(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(read_run(text).expect_err("a mistake").to_string(), expected);
    }

    proptest! {
        #[test]
        fn any_names_come_back(names in proptest::collection::hash_set("[a-z% \u{a0}é/]{1,8}", 1..6)) {
            let judgements: Vec<Judgement> = names
                .iter()
                .map(|name| Judgement { question: "q".into(), document: name.clone(), grade: 1 })
                .collect();
            prop_assert_eq!(read_qrels(&write_qrels(&judgements)).expect("judgements"), judgements);
            let ranked: Vec<RankedDocument> = names
                .iter()
                .enumerate()
                .map(|(at, name)| RankedDocument { question: "q".into(), document: name.clone(), score: -(at as f64) })
                .collect();
            prop_assert_eq!(read_run(&write_run(&ranked, "a tag")).expect("a ranking"), ranked);
        }
    }
}
