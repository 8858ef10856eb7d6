//! Two plans for the same question: which passages move, and at which step an expected one is lost.
//! Run from the root of the repository: `cargo run --release -p logothete --example compare_two_plans`

use logothete::search::{Filter, Plan, RerankKind};
use logothete::{Pipeline, Result, SearchRequest};

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let corpus = Pipeline::default().open("plans.corpus").await?;
    corpus.build("demo/documents").await?;
    let plan = Pipeline::default().config().search.plan();
    let mut words: Plan = plan.clone();
    words.rerank.kind = RerankKind::None;
    words.leg_mut("vector").into_iter().for_each(|leg| leg.weight = 0.0);

    let expected = Filter::field("document").equals("byelaws.pdf").and(Filter::field("section").contains("Speed"));
    for (name, plan) in [("the default", plan), ("words alone", words)] {
        let request = SearchRequest::new("How fast may a vessel go in the basin?");
        let found = corpus.search(request.plan(plan).passages(3).expecting(expected.clone())).await?;
        println!("{name}:");
        found.passages.iter().for_each(|passage| println!("  {}. {}", passage.rank, passage.location));
        if let Some(expected) = &found.expected {
            println!(
                "  the article on speed: legs {:?}, shown {:?}, lost at {:?}",
                expected.legs, expected.shown, expected.lost
            );
        }
    }
    Ok(())
}
