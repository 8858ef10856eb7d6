//! The keyword index beside plain computations of the same thing, and under damage.

use std::collections::HashMap;

use logothete_core::keyword::{
    FieldWeights, Fields, KeywordIndex, KeywordWriter, LiveCounts, LiveKeywords, PreparedQuery, Query, merge_keywords,
};
use logothete_core::segment::{Hit, RowSet, whole_segment};
use logothete_core::text::{Language, words};
use proptest::prelude::*;
use rstest::rstest;

type Index = KeywordIndex<Vec<u8>>;

fn bytes(texts: &[String]) -> Vec<u8> {
    let mut writer = KeywordWriter::new(FieldWeights::default());
    // What another segment had is remembered, and nothing of it is seen in this one.
    writer.push(&Fields::body("b zz cc other words"), None);
    whole_segment(|to| writer.write(to)).expect("a segment");
    texts.iter().for_each(|text| writer.push(&Fields::body(text), Some(Language::English)));
    whole_segment(|to| writer.write(to)).expect("a segment")
}

fn index(texts: &[String]) -> Index {
    KeywordIndex::open(bytes(texts)).expect("a whole segment")
}

/// Segments with their live rows.
struct Parts(Vec<(Index, RowSet, LiveCounts)>);

impl Parts {
    fn new(parts: impl IntoIterator<Item = (Index, RowSet)>) -> Self {
        let counted = parts.into_iter().map(|(index, live)| {
            let counts = LiveCounts::new(&index, &live);
            (index, live, counts)
        });
        Self(counted.collect())
    }

    fn of(texts: &[String]) -> Self {
        Self::new([(index(texts), RowSet::all(texts.len() as u32))])
    }

    fn all(&self) -> Vec<LiveKeywords<'_, Vec<u8>>> {
        self.0.iter().map(|(index, live, counts)| LiveKeywords { index, live, counts }).collect()
    }

    fn prepared(&self, query: &str) -> PreparedQuery {
        PreparedQuery::new(&Query::parse(query), &self.all())
    }

    /// The hits of all segments, rows counted on through them.
    fn search(&self, query: &str, count: usize) -> Vec<Hit> {
        let prepared = self.prepared(query);
        let (mut hits, mut first) = (Vec::new(), 0);
        for part in self.all() {
            let found = prepared.search(part, None, count).into_iter();
            hits.extend(found.map(|hit| Hit { row: hit.row + first, ..hit }));
            first += part.index.rows();
        }
        hits.sort_unstable_by(|a, b| b.cmp(a));
        hits.truncate(count);
        hits
    }

    fn rows(&self, query: &str) -> Vec<u32> {
        let mut rows: Vec<u32> = self.search(query, usize::MAX).into_iter().map(|hit| hit.row).collect();
        rows.sort_unstable();
        rows
    }
}

/// BM25 from its formula, with nothing precomputed.
fn plain_scores(texts: &[String], live: &RowSet, query: &str) -> HashMap<u32, f64> {
    let terms: Vec<(u32, Vec<String>)> = texts
        .iter()
        .enumerate()
        .filter(|(row, _)| live.contains(*row as u32))
        .map(|(row, text)| (row as u32, words(text).map(|word| word.term).collect()))
        .collect();
    let rows = terms.len() as f64;
    let mean = (terms.iter().map(|(_, terms)| terms.len()).sum::<usize>() as f64 / rows.max(1.0)).max(1.0);
    let mut scores = HashMap::new();
    let mut wanted: Vec<String> = words(query).map(|word| word.term).collect();
    wanted.sort();
    wanted.dedup();
    for term in wanted {
        let frequency = terms.iter().filter(|(_, terms)| terms.contains(&term)).count() as f64;
        let weight = (1.0 + (rows - frequency + 0.5) / (frequency + 0.5)).ln();
        for (row, terms) in &terms {
            let count = terms.iter().filter(|other| **other == term).count() as f64;
            if count > 0.0 {
                let norm = 1.2 * (0.25 + 0.75 * terms.len() as f64 / mean);
                *scores.entry(*row).or_insert(0.0) += weight * 2.2 * count / (count + norm);
            }
        }
    }
    scores
}

fn rows(count: usize, mask: u64) -> RowSet {
    let mut live = RowSet::new(count as u32);
    (0..count as u32).filter(|row| mask >> (row % 64) & 1 == 1).for_each(|row| live.insert(row));
    live
}

fn texts() -> impl Strategy<Value = Vec<String>> {
    prop::collection::vec("([bcdfg]{1,2} ){0,12}", 1..20)
}

/// Many rows of words as frequent as those of a language: the first in every second row, the next in every fourth.
fn many(rows: usize, seed: u64) -> Vec<String> {
    let mut state = seed;
    let mut next = move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        state >> 33
    };
    let text = |_| {
        let words = (0..next() % 40 + 3).map(|_| format!("w{}x", next().trailing_zeros() * 7 + (next() % 7) as u32));
        words.collect::<Vec<_>>().join(" ")
    };
    (0..rows).map(text).collect()
}

/// Whatever is asked of 9,000 rows, the first ten are the first ten of all, places and scores; also when rows have died and
/// the mean length is another than it was when the segments were written.
#[rstest]
#[case("w0x w1x w8x")]
#[case("w70x w63x")]
#[case("w1x w2x w3x w4x w5x w6x w7x w8x")]
#[case("+w56x +w3x w9x")]
#[case("w0x -w1x w35x")]
#[case("w4* w57x")]
#[case("\"w1x w2x\" w49x")]
fn passing_over_changes_nothing(#[case] query: &str) {
    let (first, second) = (many(6_000, 1), many(3_000, 2));
    for mask in [u64::MAX, 0x5555_0f0f_ffff_0001] {
        let parts = Parts::new([(index(&first), rows(6_000, mask)), (index(&second), rows(3_000, !mask | 0xff))]);
        let all = parts.search(query, usize::MAX);
        assert!(all.len() > 10, "{query}: {}", all.len());
        for count in [1, 10, 50] {
            assert_eq!(parts.search(query, count), all[..count.min(all.len())], "{query}, the first {count}");
        }
    }
}

#[test]
fn the_second_of_two_builds_scores_as_one_build() {
    let (first, second) = (many(700, 3), many(400, 4));
    let whole: Vec<String> = first.iter().chain(&second).cloned().collect();
    let two = Parts::new([(index(&first), RowSet::all(700)), (index(&second), RowSet::all(400))]);
    assert_eq!(two.search("w0x w9x w22x", 30), Parts::of(&whole).search("w0x w9x w22x", 30));
}

/// Lists over many blocks, parts of which are dead, long rows, and fields that weigh so much that frequencies are high.
#[rstest]
#[case::all_live(u64::MAX, FieldWeights::default())]
#[case::some_dead(0xfff0_ffff_0fff_fff7, FieldWeights { title: 9, headings: 2, context: 0, body: 1 })]
#[case::most_dead(0x0000_0100_0000_8001, FieldWeights { title: 40, headings: 1, context: 1, body: 3 })]
fn merging_many_rows_gives_the_bytes_of_a_fresh_segment(#[case] mask: u64, #[case] weights: FieldWeights) {
    let texts = |rows: usize, seed: u64| -> Vec<(String, String)> {
        many(rows, seed).into_iter().zip(many(rows, seed + 50).into_iter().map(|text| text.repeat(3))).collect()
    };
    let push = |writer: &mut KeywordWriter, (title, body): &(String, String)| {
        writer.push(&Fields { title, body, ..Fields::default() }, Some(Language::English));
    };
    let segment = |texts: &[(String, String)]| {
        let mut writer = KeywordWriter::new(weights);
        texts.iter().for_each(|text| push(&mut writer, text));
        KeywordIndex::open(whole_segment(|to| writer.write(to)).expect("a segment")).expect("whole")
    };
    let parts = [texts(700, 5), texts(1, 6), texts(391, 7), texts(128, 8)];
    let segments: Vec<_> = parts.iter().map(|part| segment(part)).collect();
    // Only the first and the third have dead rows.
    let live: Vec<RowSet> = parts
        .iter()
        .enumerate()
        .map(|(at, part)| rows(part.len(), if at % 2 == 0 { mask } else { u64::MAX }))
        .collect();
    let pairs: Vec<_> = segments.iter().zip(&live).collect();
    let merged = whole_segment(|to| merge_keywords(&pairs, to)).expect("a segment");
    let kept = parts.iter().zip(&live).flat_map(|(part, live)| {
        part.iter().enumerate().filter(|(row, _)| live.contains(*row as u32)).map(|(_, text)| text)
    });
    let mut fresh = KeywordWriter::new(weights);
    kept.for_each(|text| push(&mut fresh, text));
    assert!(merged == whole_segment(|to| fresh.write(to)).expect("a segment"), "the bytes differ");
    KeywordIndex::open(merged).expect("whole").verify().expect("sound");
}

#[rstest]
#[case::stem("berths", &[0, 2])]
#[case::must("+north channel", &[1, 3])]
#[case::both("+north +channel", &[1])]
#[case::must_not("channel -north", &[2])]
#[case::phrase("\"low water\"", &[0, 1])]
#[case::phrase_and_word("\"low water\" +berth", &[0])]
#[case::not_the_phrase("water -\"low water\"", &[3])]
#[case::beginning("chan*", &[1, 2])]
#[case::misspelt("chanel", &[1, 2])]
#[case::changed_places("nroth", &[1, 3])]
#[case::identifier("+B-17", &[2])]
#[case::number("+8.4", &[0, 3])]
#[case::number_with_unit("\"8.4 m\"", &[0, 3])]
#[case::reference("+§12(3)", &[1])]
#[case::reference_in_quotes("+\"§ 12(3)\"", &[1])]
#[case::reference_apart("+12(3)", &[1])]
#[case::none("zeppelin", &[])]
fn rows_are_found(#[case] query: &str, #[case] expected: &[u32]) {
    let texts = [
        "At low water berth 4 has 8.4 m.",
        "Low water in the north channel: see § 12(3).",
        "Berths along the channel, buoy B-17.",
        "North quay: 8.4m of water, rule 12 and 3, buoy B 17.",
    ]
    .map(str::to_owned);
    assert_eq!(Parts::of(&texts).rows(query), expected, "{query}");
}

#[test]
fn words_are_found_in_the_language_of_their_rows() {
    let mut writer = KeywordWriter::new(FieldWeights::default());
    writer.push(&Fields::body("Die Häfen sind offen und die Schiffe liegen am Kai."), Some(Language::German));
    writer.push(&Fields::body("The harbours are open, and nobody may die."), Some(Language::English));
    writer.push(&Fields::body("港の水深は八メートルです。"), Language::from_tag("ja"));
    writer.push(&Fields::body("ท่าเรือเปิดทุกวัน"), None);
    let index = KeywordIndex::open(whole_segment(|to| writer.write(to)).expect("a segment")).expect("whole");
    let parts = Parts::new([(index, RowSet::all(4))]);
    assert_eq!(parts.rows("Hafen"), [0]);
    assert_eq!(parts.rows("harbour"), [1]);
    assert_eq!(parts.rows("wann sind die Schiffe offen"), [0], "articles of German do not find English");
    assert_eq!(parts.rows("水深"), [2]);
    assert_eq!(parts.rows("水"), [2], "a sign alone");
    assert_eq!(parts.rows("深水"), [] as [u32; 0], "in the other order");
    assert_eq!(parts.rows("เรือ"), [3]);
}

/// A sentence in each language, all in one index: each of its words finds it, as it is written and in capitals.
#[rstest]
#[case(Language::Arabic, "يصعد المرشد إلى السفينة عند العوامة الخارجية للميناء")]
#[case(Language::Danish, "Lodsen går om bord ved den ydre bøje, når skibene ankommer til havnen")]
#[case(Language::Dutch, "De loods komt aan boord bij de buitenste boei van de havens")]
#[case(Language::English, "The pilot boards the ships at the outer buoys of the harbour")]
#[case(Language::Finnish, "Luotsi nousee laivaan sataman uloimman poijun luona")]
#[case(Language::French, "Le pilote monte à bord près de la bouée extérieure des ports")]
#[case(Language::German, "Der Lotse kommt an der äußeren Boje des Hafens an Bord")]
#[case(Language::Greek, "Ο πλοηγός ανεβαίνει στο πλοίο στην εξωτερική σημαδούρα του λιμανιού")]
#[case(Language::Hungarian, "A révkalauz a kikötő külső bójájánál száll fel a hajóra")]
#[case(Language::Italian, "Il pilota sale a bordo presso la boa esterna del porto")]
#[case(Language::Norwegian, "Losen går om bord ved den ytre bøyen i havnen")]
#[case(Language::Portuguese, "O piloto sobe a bordo junto da bóia exterior das embarcações")]
#[case(Language::Romanian, "Pilotul urcă la bord lângă geamandura exterioară a porturilor")]
#[case(Language::Russian, "Лоцман поднимается на борт судна у внешнего буя гавани")]
#[case(Language::Spanish, "El práctico sube a bordo junto a la boya exterior de los puertos")]
#[case(Language::Swedish, "Lotsen går ombord vid den yttre bojen när fartygen kommer till hamnen")]
#[case(Language::Tamil, "துறைமுகத்தின் வெளிப்புற மிதவையில் வழிகாட்டி கப்பலில் ஏறுகிறார்")]
#[case(Language::Turkish, "Kılavuz kaptan limanın dış şamandırasında gemiye biner")]
fn every_word_of_every_language_finds_its_row(#[case] language: Language, #[case] sentence: &str) {
    let mut writer = KeywordWriter::new(FieldWeights::default());
    writer.push(&Fields::body("Nothing of it stands here."), Some(Language::English));
    writer.push(&Fields::body(sentence), Some(language));
    let index = KeywordIndex::open(whole_segment(|to| writer.write(to)).expect("a segment")).expect("whole");
    let parts = Parts::new([(index, RowSet::all(2))]);
    for word in words(sentence).map(|word| word.text) {
        assert!(parts.rows(&format!("+{word}")).contains(&1), "{word}");
        // Turkish has two letters for what is one in capitals elsewhere.
        if language != Language::Turkish {
            assert!(parts.rows(&format!("+{}", word.to_uppercase())).contains(&1), "{word} in capitals");
        }
    }
    assert_eq!(parts.rows(&format!("\"{sentence}\"")), [1]);
}

#[test]
fn fields_count_as_they_are_weighted() {
    let rank = |weights: FieldWeights| {
        let mut writer = KeywordWriter::new(weights);
        let rows = [
            Fields { title: "Dredging of the basin", body: "Work begins in May.", ..Fields::default() },
            Fields { headings: "Dredging of the basin", body: "Work begins in May.", ..Fields::default() },
            Fields { context: "Dredging of the basin", body: "Work begins in May.", ..Fields::default() },
            Fields { title: "Work begins in May", body: "Dredging of the basin.", ..Fields::default() },
        ];
        rows.iter().for_each(|row| writer.push(row, Some(Language::English)));
        let index = KeywordIndex::open(whole_segment(|to| writer.write(to)).expect("a segment")).expect("whole");
        assert_eq!(index.weights(), weights);
        let parts = Parts::new([(index, RowSet::all(4))]);
        parts.search("dredging", 9).into_iter().map(|hit| hit.row).collect::<Vec<_>>()
    };
    assert_eq!(rank(FieldWeights::default()), [0, 1, 2, 3], "equal weights, ties by row");
    assert_eq!(rank(FieldWeights { title: 1, headings: 9, context: 2, body: 3 }), [1, 3, 2, 0]);
    assert_eq!(
        rank(FieldWeights { title: 0, headings: 0, context: 1, body: 2 }),
        [3, 2],
        "a weight of nothing leaves it out"
    );
}

#[test]
fn a_phrase_does_not_go_from_one_field_into_the_next() {
    let mut writer = KeywordWriter::new(FieldWeights::default());
    writer.push(&Fields { title: "The north", body: "channel is shut.", ..Fields::default() }, None);
    let index = KeywordIndex::open(whole_segment(|to| writer.write(to)).expect("a segment")).expect("whole");
    let parts = Parts::new([(index, RowSet::all(1))]);
    assert_eq!((parts.rows("\"north channel\""), parts.rows("+north +channel")), (vec![], vec![0]));
}

#[test]
fn what_was_taken_for_a_slip_is_told() {
    let parts = Parts::of(&["A pilot boards at the buoy.".to_owned()]);
    let prepared = parts.prepared("pilto");
    assert_eq!(prepared.misspelt(), [("pilto".to_owned(), vec!["pilot".to_owned()])]);
    assert!(parts.prepared("xyz").misspelt().is_empty(), "too short to have a slip in it");
    assert!(parts.prepared("wpilot").misspelt().is_empty(), "another first letter is another word");
    let question = PreparedQuery::new(&Query::plain("Does a pilto board?"), &parts.all());
    assert_eq!((question.misspelt().len(), question.missing()), (0, &["pilto".to_owned()][..]));
}

/// A part of a query with its sign: what it looks for is a word, words one behind the other, or the beginning of words.
#[derive(Clone, Debug)]
struct Part {
    sign: &'static str,
    looks_for: LooksFor,
}

#[derive(Clone, Debug)]
enum LooksFor {
    Word(String),
    Phrase(Vec<String>),
    Beginning(String),
}

impl Part {
    fn written(&self) -> String {
        let body = match &self.looks_for {
            LooksFor::Word(word) => word.clone(),
            LooksFor::Phrase(words) => format!("\"{}\"", words.join(" ")),
            LooksFor::Beginning(word) => format!("{word}*"),
        };
        format!("{}{body}", self.sign)
    }

    /// Whether it stands in a text.
    fn stands(&self, text: &str) -> bool {
        let words: Vec<&str> = text.split_whitespace().collect();
        match &self.looks_for {
            LooksFor::Word(word) => words.contains(&word.as_str()),
            LooksFor::Phrase(phrase) => words.windows(phrase.len()).any(|some| some == phrase.as_slice()),
            LooksFor::Beginning(begin) => words.iter().any(|word| word.starts_with(begin)),
        }
    }

    fn must(&self) -> bool {
        self.sign == "+" || (self.sign.is_empty() && matches!(self.looks_for, LooksFor::Phrase(_)))
    }

    /// Whether any word of it stands in a text, whatever must be there.
    fn touches(&self, text: &str) -> bool {
        match &self.looks_for {
            LooksFor::Phrase(words) => words.iter().any(|word| text.split_whitespace().any(|other| other == word)),
            _ => self.stands(text),
        }
    }
}

fn query_part() -> impl Strategy<Value = Part> {
    let word = "[bcdfg]{1,2}";
    let looks_for = prop_oneof![
        4 => word.prop_map(LooksFor::Word),
        2 => prop::collection::vec(word, 1..4).prop_map(LooksFor::Phrase),
        1 => "[bcdfg]".prop_map(LooksFor::Beginning),
    ];
    (prop::sample::select(vec!["", "", "+", "-"]), looks_for).prop_map(|(sign, looks_for)| Part { sign, looks_for })
}

proptest! {
    #[test]
    fn rows_are_those_that_a_query_describes(
        first in texts(),
        second in texts(),
        mask: u64,
        query in prop::collection::vec(query_part(), 1..5),
    ) {
        let live = [rows(first.len(), mask), rows(second.len(), mask.rotate_left(9))];
        let parts = Parts::new([(index(&first), live[0].clone()), (index(&second), live[1].clone())]);
        let wanted = |text: &str| {
            let must = query.iter().filter(|part| part.must()).all(|part| part.stands(text));
            let must_not = query.iter().filter(|part| part.sign == "-").any(|part| part.stands(text));
            must && !must_not && query.iter().filter(|part| part.sign != "-").any(|part| part.touches(text))
        };
        let all = first.iter().zip(0..).map(|(text, row)| (text, live[0].contains(row)));
        let all = all.chain(second.iter().zip(0..).map(|(text, row)| (text, live[1].contains(row))));
        let expected: Vec<u32> =
            all.zip(0..).filter(|((text, live), _)| *live && wanted(text)).map(|(_, row)| row).collect();
        let written = query.iter().map(Part::written).collect::<Vec<_>>().join(" ");
        prop_assert_eq!(parts.rows(&written), expected, "{}", written);
    }

    /// Letters of any script: what is written in a row is found by it, alone, as a phrase, and by its beginning.
    #[test]
    fn what_is_written_is_found(
        all in prop::collection::vec("\\p{L}{1,8}|\\p{L}\\p{M}{1,2}\\p{L}{0,3}|[A-Z]-?[0-9]{1,3}|[0-9]{1,2}\\.[0-9] ?m|§ ?[0-9]\\([0-9]\\)", 1..7),
        language in prop::option::of(prop::sample::select(Language::ALL.to_vec())),
    ) {
        let text = all.join(" ");
        let mut writer = KeywordWriter::new(FieldWeights::default());
        writer.push(&Fields::body("x"), None);
        writer.push(&Fields::body(&text), language);
        let index = KeywordIndex::open(whole_segment(|to| writer.write(to)).expect("a segment")).expect("whole");
        let parts = Parts::new([(index, RowSet::all(2))]);
        for word in &all {
            // Some letters are no words by the annex, and neither are they looked for.
            if words(word).next().is_some() {
                prop_assert!(parts.rows(&format!("+\"{word}\"")).contains(&1), "{word:?} in {text:?}");
            }
        }
        if words(&text).next().is_some() {
            prop_assert!(parts.rows(&format!("\"{text}\"")).contains(&1), "{text:?}");
        }
    }

    #[test]
    fn scores_are_those_of_the_formula(texts in texts(), mask: u64, query in "([bcdfg]{1,2} ){1,4}") {
        let live = rows(texts.len(), mask);
        let parts = Parts::new([(index(&texts), live.clone())]);
        let hits = parts.search(&query, texts.len());
        let expected = plain_scores(&texts, &live, &query);
        prop_assert_eq!(hits.len(), expected.len());
        for hit in &hits {
            prop_assert!((f64::from(hit.score) - expected[&hit.row]).abs() < 1e-4);
        }
        prop_assert!(hits.windows(2).all(|pair| pair[0] > pair[1]));
    }

    #[test]
    fn merged_segments_are_those_of_all_their_texts(first in texts(), second in texts(), mask: u64) {
        let kept = |texts: &[String]| {
            let live = rows(texts.len(), mask);
            texts.iter().enumerate().filter(|(row, _)| live.contains(*row as u32)).map(|(_, text)| text.clone()).collect::<Vec<_>>()
        };
        let all: Vec<String> = [kept(&first), kept(&second)].concat();
        // Of a segment without rows it is still known which language they were in.
        prop_assume!(!all.is_empty());
        let (a, b) = (index(&first), index(&second));
        let (live_a, live_b) = (rows(first.len(), mask), rows(second.len(), mask));
        let merged = whole_segment(|to| merge_keywords(&[(&a, &live_a), (&b, &live_b)], to)).expect("a segment");
        prop_assert_eq!(merged, bytes(&all));
    }

    #[test]
    fn phrases_are_those_of_the_texts(texts in texts(), phrase in "[bcdfg]{1,2}( [bcdfg]{1,2}){1,2}") {
        let expected: Vec<u32> = texts
            .iter()
            .enumerate()
            .filter(|(_, text)| format!(" {text}").contains(&format!(" {phrase} ")))
            .map(|(row, _)| row as u32)
            .collect();
        // Two letters with a blank behind them are as they are written: the stems of such words are the words.
        prop_assert_eq!(Parts::of(&texts).rows(&format!("\"{phrase}\"")), expected);
    }

    #[test]
    fn any_changed_byte_is_found_and_nothing_panics(texts in texts(), at: usize, bit in 0u8..8, cut: usize) {
        let bytes = bytes(&texts);
        let mut flipped = bytes.clone();
        flipped[at % bytes.len()] ^= 1 << bit;
        prop_assert!(KeywordIndex::open(bytes[..cut % bytes.len()].to_vec()).is_err());
        if let Ok(index) = KeywordIndex::open(flipped) {
            // Damage that only a full read finds must still leave searching safe.
            prop_assert!(index.verify().is_err());
            let parts = Parts::new([(index, RowSet::all(texts.len() as u32))]);
            for query in ["b c d bc", "+b c", "b -c", "\"b c\"", "b*", "bcdd"] {
                parts.search(query, 5);
            }
            let (index, live, _) = &parts.0[0];
            whole_segment(|to| merge_keywords(&[(index, live)], to)).expect("whatever is left");
        }
    }
}
