//! Claims held against their sources.

use logothete_core::chunk::{Structure, chunks};
use logothete_core::document::{BlockKind, DocumentBuilder};
use logothete_core::search::Passage;
use logothete_core::text::sentences;
use logothete_core::vector::{Encoder, Role, Vectors};
use logothete_core::verify::{
    DifferenceKind, HeldClaim, Judge, Meaning, SourceSentence, SupportModel, Verdict, verify,
};
use logothete_core::{Fingerprint, Result};
use proptest::prelude::*;
use rstest::rstest;

/// An encoder that counts letters, and has no vectors of tokens.
pub struct Letters;

impl Encoder for Letters {
    fn name(&self) -> String {
        "letters".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["letters"])
    }

    fn dimensions(&self) -> usize {
        26
    }

    fn encode(&self, texts: &[&str], _: Role) -> Result<Vectors> {
        let mut vectors = Vectors::new(26);
        for text in texts {
            let mut counts = [0.0; 26];
            text.bytes().filter(u8::is_ascii_lowercase).for_each(|byte| counts[usize::from(byte - b'a')] += 1.0);
            vectors.push(&counts)?;
        }
        Ok(vectors)
    }
}

fn finding(claim: &str, source: &str) -> logothete_core::verify::Finding {
    let unknown = Meaning::default();
    let spans = sentences(source);
    let texts: Vec<SourceSentence<'_>> =
        spans.iter().map(|span| SourceSentence { text: &source[span.range()], meaning: &unknown }).collect();
    verify(claim, &unknown, &texts, SupportModel::learned())
}

#[rstest]
#[case::number("The lock is 12 metres wide.", "The lock is 14 metres wide.", DifferenceKind::Number, "14 metres")]
#[case::unit("It keeps for six weeks.", "It keeps for six months.", DifferenceKind::Number, "six months")]
#[case::time("The gate shuts at 8 pm.", "The gate shuts at 21:00.", DifferenceKind::Number, "21:00")]
#[case::date("It began on 3 May 2021.", "It began on 3 May 2022.", DifferenceKind::Number, "2022")]
#[case::bound("At least 5 boats may enter.", "At most 5 boats may enter.", DifferenceKind::Opposite, "5")]
#[case::denial("The lamp is lit by day.", "The lamp is not lit by day.", DifferenceKind::Denial, "denies")]
#[case::opposite("The gate opens at noon.", "The gate closes at noon.", DifferenceKind::Opposite, "closes")]
#[case::exclusive("Turn at the red buoy.", "Turn at the green buoy.", DifferenceKind::Exclusive, "green")]
#[case::duty("A pilot may be taken.", "A pilot must be taken.", DifferenceKind::Duty, "must")]
#[case::degree("All boats are insured.", "Most boats are insured.", DifferenceKind::Degree, "share")]
#[case::name("The ferry sails to Orrin.", "The ferry sails to Brack.", DifferenceKind::Name, "Brack")]
#[case::missing("The crew gets soup.", "The gate is shut.", DifferenceKind::Missing, "soup")]
#[case::hedge("The quay sinks.", "The quay possibly sinks.", DifferenceKind::Hedge, "doubt")]
#[case::condition(
    "Nets may be dried on the quay.",
    "Nets may be dried on the quay unless a ship lies there.",
    DifferenceKind::Condition,
    "unless"
)]
fn differences_are_named(#[case] claim: &str, #[case] source: &str, #[case] kind: DifferenceKind, #[case] said: &str) {
    let found = finding(claim, source);
    let difference = found.differences.iter().find(|difference| difference.kind == kind);
    let difference = difference.unwrap_or_else(|| panic!("{found:?}"));
    assert!(difference.said.contains(said) && difference.degree > 0.0, "{difference:?}");
    // What the source says itself has none of these.
    let same = finding(source, source);
    assert!(same.differences.iter().all(|own| own.kind != kind || own.degree < 0.3), "{same:?}");
}

#[rstest]
#[case("The lock is 1,400 centimetres wide.", "The lock is 14 metres wide.")]
#[case("It opens at half past six in the morning.", "It opens at 6:30.")]
#[case("A quarter of the boats are blue.", "25 per cent of the boats are blue.")]
#[case("Together they come to 30 crowns.", "The fee is 18 crowns, and 12 crowns for the second.")]
#[case("The harbour is open in July.", "The harbour is open from May to September.")]
#[case("The meeting takes an hour and a half.", "The meeting takes 90 minutes.")]
#[case("Three nights cost 90 crowns.", "A night in the harbour costs 30 crowns.")]
#[case("Of 200 crowns the fund pays 160 crowns.", "The fund pays 80 per cent of the bill.")]
#[case("Of 200 crowns the fund keeps 40 crowns.", "The fund gives back 80 per cent of the bill.")]
#[case("In 1978 Hilda Remm gave it away.", "It was given away by Hilda Remm in 1978.")]
fn converted_and_computed_numbers_are_no_difference(#[case] claim: &str, #[case] source: &str) {
    let found = finding(claim, source);
    let numbers = [DifferenceKind::Number, DifferenceKind::NumberMissing, DifferenceKind::Opposite];
    assert!(found.differences.iter().all(|own| !numbers.contains(&own.kind) || own.degree < 0.3), "{found:?}");
}

#[rstest]
#[case::ends_are_exact("Donors are between 20 and 72 years old.", "Donors are between 18 and 72 years old.")]
#[case::bound_of_another(
    "Berth 11 is 160 metres long.",
    "Timber above four metres is lashed. She is 118 metres long. May she have Berth 11?"
)]
#[case::bound_beside(
    "The channel is dredged to 9 metres.",
    "The channel is dredged to 6.2 metres below datum. No vessel drawing more than 8.1 metres shall enter the channel."
)]
#[case::day_of_a_month(
    "The strongest gust came on 19 January.",
    "The strongest gust came on 17 January. January was cold."
)]
#[case::sum_of_distant(
    "The hut has 48 beds.",
    "The hut has 44 beds. Guests bring their own bags, and nobody may smoke in any of the rooms, in the halls or on the stairs, at any hour of the day or of the night. The walk takes 4 hours."
)]
#[case::of_a_ban(
    "Vessels stay at least 30 metres from the cable when they anchor.",
    "No vessel shall anchor within 300 metres of the cable."
)]
fn a_number_that_only_seems_to_be_there_is_missed(#[case] claim: &str, #[case] source: &str) {
    let found = finding(claim, source);
    let is_number = |kind| [DifferenceKind::Number, DifferenceKind::NumberMissing].contains(&kind);
    assert!(found.differences.iter().any(|own| is_number(own.kind) && own.degree >= 0.3), "{found:?}");
    assert!(!found.verdict.is_borne_out(), "{found:?}");
}

#[rstest]
#[case::whole_clause("The tower is open on Sundays.", "The tower is open on Sundays, and the museum is closed.", true)]
#[case::parts_of_two(
    "Carriers are paid by the hour.",
    "Carriers are paid by the crate and porters by the hour.",
    false
)]
#[case::number_of_another("Pump A weighs 21 kg.", "Pump A weighs 14 kg and pump B weighs 21 kg.", false)]
#[case::bound_itself("A member may take five boats.", "A member may take at most two boats.", false)]
fn only_whole_clauses_are_taken_over(#[case] claim: &str, #[case] source: &str, #[case] expected: bool) {
    let found = finding(claim, source);
    assert_eq!(found.verdict.is_borne_out(), expected, "{found:?}");
}

#[test]
fn a_typing_error_is_no_other_word() {
    let source = "The tug Steadfast has a bollard pull of 32 tonnes and a crew of four.";
    let found = finding("The tug Steadfast has a bolard pull of 32 tonnes.", source);
    assert_eq!(found.verdict, Verdict::Supported, "{found:?}");
    let found = finding("The tug Steadfast has a bolard pull of 23 tonnes.", source);
    assert_eq!(found.verdict, Verdict::Contradicted, "{found:?}");
}

#[rstest]
#[case::other_row("Berth 4, Fish Quay, 6, 9.0, 40, 2.", Verdict::Contradicted)]
#[case::own_row("Berth 3, Fish Quay, 6, 9.0, 40, 2.", Verdict::Supported)]
fn a_claim_does_not_mix_rows(#[case] claim: &str, #[case] verdict: Verdict) {
    let unknown = Meaning::default();
    let rows = [
        "Berth 3 · Quay: Fish Quay · Bollards: 6 · Spacing: 9.0 · Power: 40 · Taps: 2",
        "Berth 4 · Quay: Customhouse Quay · Bollards: 8 · Spacing: 10.0 · Power: 60 · Taps: 3",
    ];
    let rows = rows.map(|text| SourceSentence { text, meaning: &unknown });
    let found = verify(claim, &unknown, &rows, SupportModel::learned());
    assert_eq!(found.verdict, verdict, "{found:?}");
    let is_mixed = found.differences.iter().any(|own| own.said.contains("no row"));
    assert_eq!(is_mixed, verdict == Verdict::Contradicted);
}

#[test]
fn where_the_words_are_the_same_a_number_decides() {
    let source = "The tug Steadfast has a bollard pull of 32 tonnes and a crew of four.";
    let changed = finding("The tug Steadfast has a bollard pull of 30 tonnes and a crew of four.", source);
    assert_eq!(changed.verdict, Verdict::Contradicted);
    assert!(changed.reason.expect("a reason").contains("32 tonnes"));
    assert_eq!(finding("", source).verdict, Verdict::Unsupported);
    assert_eq!(finding("The gate is shut.", "").verdict, Verdict::Unsupported);
}

fn passage(text: &str) -> Passage {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.block(BlockKind::Paragraph, text);
    let document = builder.finish();
    let chunk = chunks(&document, "a", &Structure::default()).expect("structure never fails").remove(0);
    Passage::from_chunk(chunk, &document)
}

#[test]
fn a_judge_quotes_the_sentence_that_is_nearest() {
    let passages =
        [passage("The lamp is green. It is lit at dusk."), passage("(2) Cranes stop in a gale. Boats stay.")];
    let both: Vec<&Passage> = passages.iter().collect();
    let judge = Judge::new(&Letters);
    let held = judge.hold("Cranes stop in a gale.", &both).expect("a judgement");
    assert_eq!((held.finding.verdict, held.place), (Verdict::Supported, Some((1, 0))));
    let held = judge.hold("The moon is made of cheese.", &both).expect("a judgement");
    assert!(!held.finding.verdict.is_borne_out() && held.finding.reason.is_some());
    let held = judge
        .hold("Ring every ten and every twenty seconds.", &[&passage("Ring every ten and not every twenty seconds.")]);
    assert_eq!(held.expect("a judgement").finding.verdict, Verdict::Contradicted);
    // A part of a sentence is not what it says.
    let held = judge.hold(
        "Boats of any size may enter the inner dock.",
        &[&passage("No boats of any size may enter the inner dock.")],
    );
    assert_eq!(held.expect("a judgement").finding.verdict, Verdict::Contradicted);
    let limited = passage("Nets may be dried on the quay only with the consent of the harbour master.");
    let held = judge.hold("Nets may be dried on the quay.", &[&limited]).expect("a judgement");
    assert!(held.finding.probability < 1.0, "{held:?}");
    let held = judge.hold_against("The lamp is red.", &["Boats stay.", "The lamp is green."]).expect("a judgement");
    assert_eq!((held.finding.verdict.is_borne_out(), held.place), (false, Some((0, 1))));
}

#[test]
fn claims_that_are_held_together_fare_as_one_by_one() {
    let passages =
        [passage("The lamp is green. It is lit at dusk."), passage("(2) Cranes stop in a gale. Boats stay.")];
    let both: Vec<&Passage> = passages.iter().collect();
    let claims = ["Cranes stop in a gale.", "The lamp is red.", "Nobody stays.", "", "The lamp is lit at noon."];
    let cases: Vec<(&str, Vec<&Passage>)> = claims.iter().map(|claim| (*claim, both.clone())).collect();
    let together = Judge::new(&Letters).hold_all(&cases).expect("judgements");
    let single = claims.map(|claim| Judge::new(&Letters).hold(claim, &both).expect("a judgement"));
    assert_eq!(together, single);
    let verdicts: Vec<bool> = together.iter().map(|held| held.finding.verdict.is_borne_out()).collect();
    assert_eq!(verdicts, [true, false, false, false, false]);
}

proptest! {
    #[test]
    fn whatever_is_claimed_is_judged(
        claim in "(not |no |the |Berth 7 |9 pm |12 m|half a |a |gate |only |shut|, |\\. |é|ß|“|2025-01-02 |3/4 |\u{1f600}){0,14}",
        source in "((All|The|No) (gate|lamp|boat)s? (is|may|must) (not )?(shut|lit|12 m|9:30)[.!;] ){0,6}",
    ) {
        let found = finding(&claim, &source);
        prop_assert!((0.0..=1.0).contains(&found.probability) && (0.0..=1.0).contains(&found.speaks));
        prop_assert!(found.differences.iter().all(|own| (0.0..=1.0).contains(&own.degree) && !own.said.is_empty()));
        prop_assert_eq!(found.verdict == Verdict::Supported, found.reason.is_none());
        let unknown = Meaning::default();
        let one = [SourceSentence { text: &source, meaning: &unknown }];
        prop_assert!(HeldClaim::new(&claim, &unknown, &one).facts.iter().all(|fact| fact.is_finite()));
    }
}

#[rstest]
#[case::numbers("Die Schleuse nimmt Schiffe bis 62 Meter Länge auf.", Verdict::Partly, "has its numbers")]
#[case::other_number(
    "Die Schleuse nimmt Schiffe bis 92 Meter Länge auf.",
    Verdict::Unsupported,
    "in German, and the source"
)]
#[case::name(
    "La barca del signor Ardle è nella darsena con la vela.",
    Verdict::Partly,
    "in Italian: the source has its names"
)]
#[case::nothing(
    "Der Hafenmeister ist ein freundlicher Mann, der immer lacht.",
    Verdict::Unsupported,
    "in German, and whether"
)]
fn a_claim_in_another_language_is_unsure(#[case] claim: &str, #[case] verdict: Verdict, #[case] said: &str) {
    let sources = ["The lock takes vessels of up to 62 metres in length.", "Jean Ardle keeps the key."];
    let held = Judge::new(&Letters).hold_against(claim, &sources).expect("a judgement").finding;
    assert_eq!(held.verdict, verdict, "{held:?}");
    let reason = held.reason.unwrap_or_default();
    assert!(reason.contains(said), "{reason}");
    assert!(held.probability <= 0.5);
}

#[test]
fn what_a_sentence_says_in_another_language_word_for_word_is_supported() {
    let source = "Die Schleuse nimmt Schiffe bis 62 Meter Länge auf.";
    let held = Judge::new(&Letters).hold_against(source, &[source]).expect("a judgement").finding;
    assert_eq!(held.verdict, Verdict::Supported);
}

#[test]
fn a_quotation_with_typing_errors_is_supported_and_quoted() {
    let sources = ["The bell is rung by hand.", "No vessel shall exceed 8 knots in the North Channel."];
    let held = Judge::new(&Letters).hold_against("No vessel shall excede 8 knots in the Nroth Channel.", &sources);
    let held = held.expect("a judgement");
    assert_eq!((held.finding.verdict, held.place), (Verdict::Supported, Some((0, 1))));
}

#[test]
fn what_a_source_names_as_replaced_does_not_hold() {
    let source =
        "Until further notice the greatest draught at Berth 7 is 7.6 metres instead of the 8.4 metres of the byelaws.";
    let held = finding("The greatest draught at Berth 7 is 8.4 metres.", source);
    assert_eq!(held.verdict, Verdict::Contradicted, "{held:?}");
    assert_eq!(finding("The greatest draught at Berth 7 is 7.6 metres.", source).verdict, Verdict::Supported);
}

#[test]
fn words_of_which_the_source_says_nothing_are_named_once() {
    let claim = "The quay is wide and deep and wide and deep and wide and deep.".repeat(20);
    let held = finding(&claim, "A pilot boards two miles east of the buoy.");
    assert_eq!(held.verdict, Verdict::Unsupported, "its length does not speak for it: {held:?}");
    assert_eq!(held.reason.unwrap_or_default().matches("“wide”").count(), 1);
}

#[test]
fn a_claim_of_two_thousand_words_is_judged() {
    let claim = "The gate of the third basin is shut when the wind is above 20 metres per second. ".repeat(130);
    let source = "The gate is shut above 20 metres per second. Cranes stop. ".repeat(30);
    assert!((0.0..=1.0).contains(&finding(&claim, &source).probability));
}
