//! A report for every morning: the questions of a set are asked, compared with the night before, and what got worse is named. A real one runs from a timer.
//! Run from the root of the repository: `cargo run --release -p logothete --example nightly_report`

use std::fs;

use logothete::eval::{Run, compare, read_questions};
use logothete::{Error, ErrorKind, Pipeline, Result};

const LAST: &str = "last-night.json";
const MEASURES: [&str; 3] = ["hit@3", "right", "first_cited"];

fn failed(error: &dyn std::fmt::Display) -> Error {
    Error::new(ErrorKind::System, error.to_string())
}

/// Asks the questions of a set.
async fn tonight(pipeline: &Pipeline) -> Result<Run> {
    let corpus = pipeline.open("nightly.corpus").await?;
    corpus.build("demo/documents").await?;
    let text = fs::read_to_string("demo/questions-dev.jsonl").map_err(|error| failed(&error))?;
    corpus.evaluate("tonight", read_questions(&text)?).await
}

/// Returns the report, in Markdown.
fn report(before: Option<&Run>, now: &Run) -> String {
    let mut out = format!("# {} questions\n\n", now.questions);
    for measure in MEASURES {
        let value = now.metrics.get(measure).copied().unwrap_or_default();
        out.push_str(&format!("- {measure}: {value:.3}\n"));
    }
    let Some(before) = before else { return out + "\nThere is no night before.\n" };
    for comparison in compare(before, std::slice::from_ref(now)) {
        for (measure, difference) in comparison.differences.iter().filter(|(name, _)| MEASURES.contains(&name.as_str()))
        {
            let is_real = difference.probability < 0.05 && difference.value < difference.baseline;
            out.push_str(if is_real { "\nReally worse: " } else { "\nNot really changed: " });
            out.push_str(&format!(
                "{measure}, {:.3} to {:.3} (p {:.3})",
                difference.baseline, difference.value, difference.probability
            ));
        }
        out.push_str("\n\nQuestions that changed:\n");
        out.extend(
            comparison.changed.iter().take(3).map(|changed| format!("- {}: {}\n", changed.id, changed.question)),
        );
    }
    out
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    // The first night is the default; in the second somebody has switched the vectors off.
    for (night, vector) in [(1, 1.0), (2, 0.0)] {
        let pipeline = Pipeline::default().configured(|config| config.search.vector = vector);
        let before = fs::read_to_string(LAST).ok().and_then(|text| serde_json::from_str(&text).ok());
        let now = tonight(&pipeline).await?;
        println!("Night {night}\n\n{}", report(before.as_ref(), &now));
        let json = serde_json::to_string(&now).map_err(|error| failed(&error))?;
        fs::write(LAST, json).map_err(|error| failed(&error))?;
    }
    Ok(())
}
