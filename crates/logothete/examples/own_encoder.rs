//! Your own encoder in the pipeline. This one counts letters, which is about the worst that can be done; put a call of
//! your model in its place. Run from the root of the repository:
//! `cargo run --release -p logothete --example own_encoder`

use logothete::vector::{Encoder, Role, Vectors};
use logothete::{Fingerprint, Pipeline, Result, contract};

struct LetterCounts;

impl Encoder for LetterCounts {
    fn name(&self) -> String {
        "letter counts".to_owned()
    }

    /// Change this whenever the same text would get another vector: a corpus remembers it, and refuses to mix.
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["letter counts", "1"])
    }

    fn dimensions(&self) -> usize {
        26
    }

    fn encode(&self, texts: &[&str], _role: Role) -> Result<Vectors> {
        let mut vectors = Vectors::new(self.dimensions());
        for text in texts {
            let mut counts = [0.0; 26];
            for letter in text.bytes().filter(u8::is_ascii_alphabetic) {
                counts[usize::from(letter.to_ascii_lowercase() - b'a')] += 1.0;
            }
            vectors.push(&counts)?;
        }
        Ok(vectors)
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    // What a test of your own project would do.
    contract::encoder(&LetterCounts, &["swing bridge hours"])?;

    let corpus = Pipeline::default().with_encoder(LetterCounts).open("letters.corpus").await?;
    corpus.build("demo/documents").await?;
    for passage in corpus.search("swing bridge hours").await?.passages.iter().take(3) {
        let vector = passage.legs.get("vector").map(|leg| leg.rank);
        println!("{}. {} (vector leg: {vector:?})", passage.rank, passage.location);
    }
    Ok(())
}
