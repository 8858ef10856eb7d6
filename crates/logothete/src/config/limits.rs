//! `[limits]`: bounds on what is read, held in memory and spent.

use std::time::Duration;

use logothete_core::document::Budget;
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// The number of bytes in a megabyte.
const MEGABYTE: u64 = 1_000_000;

/// `[limits]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct LimitsConfig {
    /// The size of the largest file that is read, in megabytes.
    pub file_megabytes: u64,
    /// The number of pages of a file that are read.
    pub pages: u32,
    /// The time that reading a file may take, in seconds.
    pub seconds: u64,
    /// The size to which an archive may unpack, in megabytes.
    pub unpacked_megabytes: u64,
    /// The text that is made of a file, in megabytes. A document that passes this limit or one of the next four is not read.
    pub text_megabytes: u64,
    /// The number of blocks that are made of a file.
    pub blocks: u64,
    /// The number of cells of tables that are made of a file.
    pub cells: u64,
    /// The number of places that are kept of a file: lines and words on pages, links, beginnings of pages, moments.
    pub places: u64,
    /// The number of chunks that a document is cut into.
    pub chunks: u64,
    /// The number of tokens of a document that are encoded.
    pub file_tokens: u64,
    /// The time that encoding a document may take, in seconds. Of documents that are encoded together, each takes the share of its tokens.
    pub encoding_seconds: u64,
    /// The memory that a build may hold, in megabytes, besides the files that it maps.
    pub memory_megabytes: u64,
    /// The time that a build may take, in seconds; 0 means unlimited. What was read by then is kept.
    pub build_seconds: u64,
    /// The number of tokens that a build may encode, send and receive; 0 means unlimited.
    pub tokens: u64,
    /// The amount that a build may cost, at the prices of `[encoder]` and `[generator]`; 0 means unlimited.
    pub money: f64,
    /// The number of tokens that a question may send and receive; 0 means unlimited.
    pub question_tokens: u64,
    /// The amount that a question may cost; 0 means unlimited.
    pub question_money: f64,
    /// The number of tokens that generators may get and write in a day (UTC), for all who use the corpus; 0 means unlimited.
    pub day_tokens: u64,
    /// The amount that generators may cost in a day; 0 means unlimited.
    pub day_money: f64,
}

impl Default for LimitsConfig {
    fn default() -> Self {
        let budget = Budget::default();
        Self {
            file_megabytes: 200,
            pages: budget.max_pages,
            seconds: 120,
            unpacked_megabytes: budget.max_unpacked / MEGABYTE,
            text_megabytes: budget.max_text / MEGABYTE,
            blocks: budget.max_blocks,
            cells: budget.max_cells,
            places: budget.max_places,
            chunks: 200_000,
            file_tokens: 20_000_000,
            encoding_seconds: 3_600,
            memory_megabytes: 1000,
            build_seconds: 0,
            tokens: 0,
            money: 0.0,
            question_tokens: 0,
            question_money: 0.0,
            day_tokens: 0,
            day_money: 0.0,
        }
    }
}

impl LimitsConfig {
    /// Returns the size of the largest file that is read, in bytes.
    pub fn max_file_bytes(&self) -> u64 {
        self.file_megabytes.saturating_mul(MEGABYTE)
    }

    /// Returns the size to which an archive may unpack, in bytes.
    pub fn max_unpacked_bytes(&self) -> u64 {
        self.unpacked_megabytes.saturating_mul(MEGABYTE)
    }

    /// Returns the memory that a build may hold, in bytes, besides the files that it maps.
    pub fn memory_bytes(&self) -> u64 {
        self.memory_megabytes.saturating_mul(MEGABYTE)
    }

    /// Returns the longest text of a document, in bytes.
    pub fn max_text_bytes(&self) -> u64 {
        self.text_megabytes.saturating_mul(MEGABYTE)
    }

    /// Returns the memory that a process that reads documents may hold, in bytes: half of that of a build, since two read at once.
    pub fn reader_bytes(&self) -> u64 {
        (self.memory_bytes() / 2).max(200 * MEGABYTE)
    }

    /// Returns the time that reading a file may take.
    pub fn max_read_time(&self) -> Duration {
        Duration::from_secs(self.seconds.max(1))
    }

    /// Returns the time that a build may take; `None` means unlimited.
    pub fn max_build_time(&self) -> Option<Duration> {
        (self.build_seconds > 0).then_some(Duration::from_secs(self.build_seconds))
    }

    /// Returns the number of tokens that a build may spend; `None` means unlimited.
    pub fn max_tokens(&self) -> Option<u64> {
        (self.tokens > 0).then_some(self.tokens)
    }

    /// Returns the amount of money that a build may spend; `None` means unlimited.
    pub fn max_money(&self) -> Option<f64> {
        (self.money > 0.0).then_some(self.money)
    }

    /// `any_price` says whether a price is set, without which a limit on money limits nothing.
    pub(super) fn validate(&self, any_price: bool) -> Result<()> {
        let at =
            |key: &str, message: &str| Err(Error::new(ErrorKind::Configuration, message).at(format!("[limits] {key}")));
        let sizes = [
            ("file_megabytes", self.file_megabytes),
            ("pages", u64::from(self.pages)),
            ("unpacked_megabytes", self.unpacked_megabytes),
            ("text_megabytes", self.text_megabytes),
            ("blocks", self.blocks),
            ("cells", self.cells),
            ("places", self.places),
            ("chunks", self.chunks),
            ("file_tokens", self.file_tokens),
            ("encoding_seconds", self.encoding_seconds),
            ("memory_megabytes", self.memory_megabytes),
        ];
        if let Some((key, _)) = sizes.iter().find(|(_, size)| *size == 0) {
            return at(key, "nothing could be read; set 1 or more");
        }
        let amounts = [("money", self.money), ("question_money", self.question_money), ("day_money", self.day_money)];
        if let Some((key, _)) = amounts.iter().find(|(_, amount)| !amount.is_finite() || *amount < 0.0) {
            return at(key, "an amount of money is 0 or more");
        }
        match amounts.iter().find(|(_, amount)| *amount > 0.0 && !any_price) {
            Some((key, _)) => at(key, "it limits nothing as long as no price is set in [encoder] or [generator]"),
            None => Ok(()),
        }
    }
}
