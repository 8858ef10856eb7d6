//! Late interaction: an index with a vector for each token of each chunk, alone and as a leg of your own. The score of a chunk is the sum of what
//! each token of the question finds in it. Run from the root of the repository:
//! `cargo run --release -p logothete --example late_interaction`

use logothete::search::{Leg, LegHit, LegQuestion};
use logothete::vector::{Role, TokenEncoder, TokenIndex, TokenIndexWriter};
use logothete::{Pipeline, Result, SearchRequest, SentenceEncoder, chunk::ChunkId};

/// The index, the chunk of each row, and the encoder of its tokens.
struct Tokens {
    encoder: SentenceEncoder,
    index: TokenIndex<Vec<u8>>,
    chunks: Vec<ChunkId>,
}

impl Leg for Tokens {
    fn name(&self) -> &'static str {
        "tokens"
    }

    fn find(&self, question: &LegQuestion<'_>) -> Result<Vec<LegHit>> {
        let query = self.encoder.encode_tokens(&[question.text], Role::Query)?.remove(0);
        let hits = self.index.search(&query, None, None, question.count);
        Ok(hits.iter().map(|hit| LegHit::chunk(self.chunks[hit.row as usize].clone(), hit.score)).collect())
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let corpus = Pipeline::default().open("tokens.corpus").await?;
    corpus.build("demo/documents").await?;

    // Each token is the number of its nearest centre and two bits a number.
    let encoder = SentenceEncoder::embedded()?;
    let mut writer = TokenIndexWriter::new(encoder.token_dimensions(), 2)?;
    let mut chunks = Vec::new();
    for document in corpus.info().await?.documents {
        for passage in corpus.chunks(&document.document).await? {
            writer.push(&encoder.encode_tokens(&[&passage.text], Role::Passage)?[0])?;
            chunks.push(passage.chunk);
        }
    }
    let tokens = Tokens { encoder, index: writer.index()?, chunks };
    println!("{} tokens of {} chunks", tokens.index.tokens(), tokens.index.rows());

    let corpus = Pipeline::default().with_leg(tokens, 0.5).open("tokens.corpus").await?;
    let found = corpus.search(SearchRequest::new("How fast may a vessel go in the basin?").passages(3)).await?;
    for passage in &found.passages {
        let leg = passage.legs.get("tokens").map(|leg| (leg.rank, leg.score));
        println!("{}. {} (rank and score among tokens: {leg:?})", passage.rank, passage.location);
    }
    Ok(())
}
