//! `[serve]`: the service on this machine, who may use it, and how much.

use std::time::Duration;

use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// `[serve]`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct ServeConfig {
    /// The address that is listened on.
    pub address: String,
    /// The port; 0 means any that is free.
    pub port: u16,
    /// The environment variable with the token that every request must carry; empty means none.
    pub token_env: String,
    /// Further names under which browsers may reach the service, such as that of a proxy.
    pub hosts: Vec<String>,
    /// The groups that everybody who uses the service is in, if `[search] allow` is set.
    pub groups: Vec<String>,
    /// Whether documents may be uploaded and removed.
    pub uploads: Uploads,
    /// The time after which a visitor's own corpus is removed if it is not used, in hours.
    pub private_hours: u64,
    /// The size of the largest file that may be uploaded, in megabytes.
    pub upload_megabytes: u64,
    /// The number of files that may be uploaded to a corpus.
    pub documents: usize,
    /// The number of questions and searches that an address may send in a minute; 0 means unlimited.
    pub questions_a_minute: u32,
    /// The number of questions and searches that are worked on at once.
    pub at_once: usize,
    /// The number that may wait; one more is told to come back later.
    pub waiting: usize,
    /// The time that a question, a search or an upload may take, in seconds.
    pub seconds: u64,
}

/// Whether documents may be uploaded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Uploads {
    /// They are for all who use the corpus.
    #[default]
    Shared,
    /// Each visitor has a corpus of their own for them, which expires. Others read the first corpus, and nobody changes it.
    Private,
    /// There are none: the corpus is only read.
    Off,
}

impl Uploads {
    /// Returns the name as settings have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Shared => "shared",
            Self::Private => "private",
            Self::Off => "off",
        }
    }
}

impl Default for ServeConfig {
    fn default() -> Self {
        Self {
            address: "127.0.0.1".to_owned(),
            port: 8472,
            token_env: String::new(),
            hosts: Vec::new(),
            groups: Vec::new(),
            uploads: Uploads::default(),
            private_hours: 24,
            upload_megabytes: 100,
            documents: 10_000,
            questions_a_minute: 0,
            at_once: 8,
            waiting: 64,
            seconds: 300,
        }
    }
}

impl ServeConfig {
    /// Returns the size of the largest file, in bytes.
    pub fn max_upload_bytes(&self) -> u64 {
        self.upload_megabytes.saturating_mul(1_000_000)
    }

    /// Returns the time after which a visitor's own corpus is removed if it is not used.
    pub fn own_time(&self) -> Duration {
        Duration::from_secs(self.private_hours.saturating_mul(3_600))
    }

    /// Returns the time that a request may take.
    pub fn max_time(&self) -> Duration {
        Duration::from_secs(self.seconds)
    }

    pub(super) fn validate(&self) -> Result<()> {
        let least = [
            ("upload_megabytes", self.upload_megabytes),
            ("private_hours", self.private_hours),
            ("documents", self.documents as u64),
            ("at_once", self.at_once as u64),
            ("seconds", self.seconds),
        ];
        match least.iter().find(|(_, value)| *value == 0) {
            Some((key, _)) => {
                let message = "nothing could be served; set 1 or more";
                Err(Error::new(ErrorKind::Configuration, message).at(format!("[serve] {key}")))
            }
            None => Ok(()),
        }
    }
}
