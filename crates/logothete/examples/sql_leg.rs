//! A leg of your own over SQL: what a table of a database knows about a question is fused with what words and vectors find. It runs for questions that name a
//! berth, and for no others. Run from the root of the repository: `cargo run --release -p logothete --example sql_leg`

use std::sync::{Mutex, PoisonError};

use logothete::search::{Leg, LegHit, LegQuestion, Rule};
use logothete::{Error, ErrorKind, Pipeline, Result, SearchRequest, contract};
use rusqlite::{Connection, params};

/// Which document is about which berth, and how much.
struct Bookings(Mutex<Connection>);

impl Bookings {
    fn open() -> rusqlite::Result<Self> {
        let database = Connection::open_in_memory()?;
        database.execute_batch(
            "CREATE TABLE booking (berth INTEGER, document TEXT, weight REAL);
             INSERT INTO booking VALUES (7, 'notices/notice-2025-06.md', 1.0), (7, 'berth-booking.eml', 0.4), (4, 'watch-log.txt', 0.8);",
        )?;
        Ok(Self(Mutex::new(database)))
    }

    fn of(&self, berth: u32) -> rusqlite::Result<Vec<(String, f32)>> {
        let database = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut rows =
            database.prepare_cached("SELECT document, weight FROM booking WHERE berth = ?1 ORDER BY weight DESC")?;
        rows.query_map(params![berth], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
    }
}

impl Leg for Bookings {
    fn name(&self) -> &'static str {
        "bookings"
    }

    fn find(&self, question: &LegQuestion<'_>) -> Result<Vec<LegHit>> {
        let words: Vec<&str> = question.text.split(|c: char| !c.is_alphanumeric()).collect();
        let named = words.windows(2).filter(|pair| pair[0].eq_ignore_ascii_case("berth"));
        let mut hits = Vec::new();
        for berth in named.filter_map(|pair| pair[1].parse().ok()) {
            let rows = self.of(berth).map_err(|error| Error::new(ErrorKind::System, "the bookings").because(error))?;
            hits.extend(rows.into_iter().map(|(document, weight)| LegHit::document(document, weight)));
        }
        Ok(hits)
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let failed = |error: rusqlite::Error| Error::new(ErrorKind::System, "the database of bookings").because(error);
    // What a test of your own project would do.
    contract::leg(&Bookings::open().map_err(failed)?, &["Is berth 7 free?", "Who rings the bell?"])?;

    let pipeline = Pipeline::default()
        .with_leg(Bookings::open().map_err(failed)?, 3.0)
        .with_leg_when("bookings", [Rule::Words("berth".to_owned())]);
    let corpus = pipeline.open("bookings.corpus").await?;
    corpus.build("demo/documents").await?;
    for question in ["Is Berth 7 free?", "When does the swing bridge open?"] {
        let found = corpus.search(SearchRequest::new(question).passages(3)).await?;
        println!("? {question}");
        for passage in &found.passages {
            let booked = passage
                .legs
                .get("bookings")
                .map_or("not in the table".to_owned(), |leg| format!("bookings, rank {}", leg.rank));
            println!("  {}. {} ({booked})", passage.rank, passage.location);
        }
    }
    Ok(())
}
