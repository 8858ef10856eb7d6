//! What a pipeline does, stage by stage, in words and drawn, before anything is read or asked.
//! Run from the root of the repository: `cargo run --release -p logothete --example describe_pipeline`

use logothete::search::{Leg, LegHit, LegQuestion, Rule};
use logothete::{Pipeline, Result};

/// Finds the table of berths.
struct Berths;

impl Leg for Berths {
    fn name(&self) -> &'static str {
        "berths"
    }

    fn find(&self, _: &LegQuestion<'_>) -> Result<Vec<LegHit>> {
        Ok(vec![LegHit::document("berths.csv", 1.0)])
    }
}

fn main() -> Result<()> {
    let pipeline = Pipeline::default()
        .with_leg(Berths, 2.0)
        .with_leg_when("berths", [Rule::Words("berth".to_owned())])
        .configured(|config| config.search.passages = 5);
    let description = pipeline.describe()?;
    println!("{description}\n{}", description.drawing());
    println!("fingerprint {}", description.fingerprint);
    Ok(())
}
