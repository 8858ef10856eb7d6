//! A check of your own beside that of the library: rules of the house that no document states. Here a draught may be told in metres only, and no telephone
//! number at all. Run from the root of the repository: `cargo run --release -p logothete --example own_check`

use logothete::{Check, ClaimToCheck, Config, MemorySource, Objection, Pipeline, Result, contract};

struct HouseRules;

impl Check for HouseRules {
    fn name(&self) -> &'static str {
        "house rules"
    }

    fn check(&self, claim: &ClaimToCheck<'_>) -> Result<Option<Objection>> {
        let digits = claim.text.chars().filter(char::is_ascii_digit).count();
        Ok(match claim.text {
            text if digits >= 6 && text.contains("call") => {
                Some(Objection::unsupported("telephone numbers are not given away"))
            }
            text if text.contains("draught") && text.contains("feet") => {
                Some(Objection::partly("draughts are told in metres"))
            }
            _ => None,
        })
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    // What a test of your own project would do.
    contract::check(&HouseRules, &[("Call 555 0123 for the draught in feet.", "Call 555 0123.")])?;

    let notes = MemorySource::new("notes")
        .with("pilot.md", "# Pilots\n\nFor a pilot call the station at 555 0123 by day and by night.\n")
        .with("berth.md", "# Berth 7\n\nThe greatest draught at Berth 7 is 26 feet at low water.\n");
    for policy in ["flag", "drop"] {
        let config = Config::parse(&format!("[answer]\nunsupported = \"{policy}\""))?;
        let corpus = Pipeline::from_config(&config)?.with_check(HouseRules).in_memory().await?;
        corpus.build(notes.clone()).await?;
        println!("{policy}");
        for question in ["Which number do I call for a pilot?", "What is the greatest draught at Berth 7?"] {
            let answer = corpus.ask(question).await?.answer;
            println!("  {}", answer.answer);
            for claim in &answer.claims {
                println!("    {}: {}", claim.verdict, claim.reason.as_deref().unwrap_or("as it is"));
            }
            answer.note.iter().for_each(|note| println!("    {note}"));
        }
    }
    Ok(())
}
