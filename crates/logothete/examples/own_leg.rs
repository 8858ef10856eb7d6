//! A leg of your own beside those of the library: a notice that is named in the question is found, whatever else the question says.
//! The learned reranker was fitted without it, so its weight is several times that of the others. Run from the root of the repository:
//! `cargo run --release -p logothete --example own_leg`

use logothete::search::{Leg, LegHit, LegQuestion};
use logothete::{Pipeline, Result, SearchRequest, contract};

/// Finds “Notice 6” in the file `notices/notice-2025-06.md`.
struct NamedNotice;

impl Leg for NamedNotice {
    fn name(&self) -> &'static str {
        "named notice"
    }

    fn find(&self, question: &LegQuestion<'_>) -> Result<Vec<LegHit>> {
        let words: Vec<&str> = question.text.split_whitespace().collect();
        let numbers = words.windows(2).filter(|pair| pair[0].eq_ignore_ascii_case("notice"));
        let numbers = numbers.filter_map(|pair| pair[1].trim_end_matches('?').parse::<u32>().ok());
        Ok(numbers.map(|number| LegHit::document(format!("notices/notice-2025-{number:02}.md"), 1.0)).collect())
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    // What a test of your own project would do.
    contract::leg(&NamedNotice, &["What does Notice 4 announce?"])?;

    let corpus = Pipeline::default().with_leg(NamedNotice, 5.0).open("named.corpus").await?;
    corpus.build("demo/documents").await?;
    let question = "What does Notice 4 announce?";
    for weight in [0.0, 5.0] {
        let request = SearchRequest::new(question).leg_weight("named notice", weight).passages(3);
        let found = corpus.search(request).await?;
        println!("with weight {weight}:");
        for passage in &found.passages {
            let rank = passage.legs.get("named notice").map(|leg| leg.rank);
            println!("  {}. {} (named notice: {rank:?})", passage.rank, passage.location);
        }
    }
    Ok(())
}
