//! Whether a passage bears out a claim: what must hold for any of both.

use logothete_core::verify::{Verdict, check};
use proptest::prelude::*;

/// Words that tell something, none of them a number or a function word.
fn telling() -> impl Strategy<Value = Vec<String>> {
    let words =
        ["berth", "pilot", "ferry", "draught", "channel", "crane", "tug", "lamp", "quay", "dredger", "buoy", "signal"];
    prop::collection::vec(prop::sample::select(words.to_vec()).prop_map(str::to_owned), 2..9)
}

proptest! {
    #[test]
    fn what_is_quoted_is_supported_whatever_its_case_and_stops(
        before in telling(),
        claim in telling(),
        behind in telling(),
        number in 1_u32..900,
    ) {
        let claim = format!("{} {number}", claim.join(" "));
        let evidence = format!("{}. {claim}; {}.", before.join(" "), behind.join(" "));
        let support = check(&format!("“{}!”", claim.to_uppercase()), &evidence);
        prop_assert_eq!((support.verdict, support.share), (Verdict::Supported, 1.0));
    }

    #[test]
    fn a_number_that_the_evidence_lacks_is_never_supported(
        words in telling(),
        at in 0_usize..9,
        number in 1_u32..900,
        other in 1_u32..900,
    ) {
        prop_assume!(number != other);
        let with = |number: u32| {
            let mut words = words.clone();
            words.insert(at.min(words.len()), number.to_string());
            words.join(" ")
        };
        prop_assert_eq!(check(&with(number), &with(number)).verdict, Verdict::Supported);
        let changed = check(&with(other), &with(number));
        prop_assert!(changed.verdict != Verdict::Supported && changed.share <= 0.5, "{changed:?}");
    }

    #[test]
    fn more_evidence_never_takes_support_away(claim in telling(), evidence in telling(), more in telling()) {
        let (claim, evidence) = (claim.join(" "), evidence.join(" "));
        let support = check(&claim, &evidence);
        let wider = check(&claim, &format!("{} {evidence} {}", more.join(" "), more.join(" ")));
        prop_assert!(wider.share >= support.share, "{support:?} {wider:?}");
        prop_assert!((0.0..=1.0).contains(&support.share));
    }

    #[test]
    fn what_the_evidence_does_not_say_lowers_the_share(claim in telling(), evidence in telling(), made_up in "z[aeiou]{3}x") {
        let evidence = evidence.join(" ");
        let support = check(&claim.join(" "), &evidence);
        let more = check(&format!("{} {made_up}", claim.join(" ")), &evidence);
        prop_assert!(more.share < support.share || support.share == 0.0, "{support:?} {more:?}");
    }

    #[test]
    fn the_share_is_that_of_the_telling_words(claim in telling(), evidence in telling()) {
        let known = claim.iter().filter(|word| evidence.contains(word)).count();
        let support = check(&claim.join(" of the "), &evidence.join(" and "));
        prop_assert!((support.share - known as f32 / claim.len() as f32).abs() < 1e-6);
        let expected = match support.share {
            share if share >= 0.9 => Verdict::Supported,
            share if share >= 0.5 => Verdict::Partly,
            _ => Verdict::Unsupported,
        };
        prop_assert_eq!(support.verdict, expected);
    }

    #[test]
    fn any_two_texts_are_compared(claim in "\\PC{0,60}", evidence in "\\PC{0,90}") {
        let support = check(&claim, &evidence);
        prop_assert!((0.0..=1.0).contains(&support.share));
    }
}
