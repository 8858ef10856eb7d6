//! Builds that the service does, one at a time for a corpus.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use logothete::{BuildReport, BuildRequest, Error, ErrorKind, Progress, StopToken};
use serde::{Deserialize, Serialize};
use tokio::sync::watch;
use utoipa::ToSchema;

use crate::corpora::Served;
use crate::problem::Problem;
use crate::visitors::Visitor;

/// So many ended jobs are remembered.
const MAX_ENDED: usize = 100;
/// The time that a job waits before it tries again, while another process builds its corpus.
const BUSY: Duration = Duration::from_millis(500);

/// A build.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[cfg_attr(test, serde(deny_unknown_fields))]
pub(crate) struct Job {
    /// The number.
    pub job: u64,
    /// The corpus that is built.
    pub corpus: String,
    pub state: JobState,
    /// The documents that are done.
    pub done: usize,
    /// The documents in all, as far as is known.
    pub total: usize,
    /// The files that were uploaded, and what became of them.
    pub documents: Vec<JobDocument>,
    /// What the build did; absent until it has ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub report: Option<serde_json::Value>,
    /// Why it failed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
}

/// The state of a build.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum JobState {
    /// Another build of the corpus is at work.
    Waiting,
    Running,
    Done,
    /// It was stopped; what was read is kept.
    Stopped,
    Failed,
}

/// A file of a build.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub(crate) struct JobDocument {
    pub document: String,
    pub state: DocumentState,
    /// Why it could not be read, or only in part.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

/// What became of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum DocumentState {
    Waiting,
    Read,
    ReadInPart,
    Unread,
}

impl Job {
    pub(crate) fn has_ended(&self) -> bool {
        !matches!(self.state, JobState::Waiting | JobState::Running)
    }

    fn document(&mut self, name: &str) -> Option<&mut JobDocument> {
        // A document whose name was taken has the name of the folder of uploads before it.
        let file = crate::uploads::file_name(name);
        self.documents.iter_mut().find(|one| one.document == name || Some(one.document.as_str()) == file)
    }

    fn progress(&mut self, progress: &Progress) {
        (self.done, self.total) = (progress.done, progress.total);
        if let Some(document) = self.document(&progress.document) {
            document.state = DocumentState::Read;
        }
    }

    fn end(&mut self, report: &BuildReport) {
        self.state = if report.stopped { JobState::Stopped } else { JobState::Done };
        for document in &mut self.documents {
            if self.state == JobState::Done {
                document.state = DocumentState::Read;
            }
        }
        let of = |state| move |one: &logothete::Failure| (one.document.clone(), one.reason.clone(), state);
        let failed = report.failed.iter().map(of(DocumentState::Unread));
        let partly = report.warnings.iter().map(of(DocumentState::ReadInPart));
        for (name, reason, state) in failed.chain(partly).collect::<Vec<_>>() {
            if let Some(document) = self.document(&name) {
                (document.state, document.reason) = (state, Some(reason));
            }
        }
        self.report = serde_json::to_value(report).ok();
    }
}

/// A job as those see it who wait for it.
struct Entry {
    /// The visitor who alone sees it; `None` means that all do.
    owner: Option<String>,
    state: watch::Sender<Job>,
    stop: StopToken,
}

impl Entry {
    fn is_for(&self, visitor: &Visitor) -> bool {
        self.owner.as_ref().is_none_or(|owner| *owner == visitor.id)
    }
}

/// All jobs of a service.
#[derive(Default)]
pub(crate) struct Jobs {
    entries: Mutex<BTreeMap<u64, Arc<Entry>>>,
    /// For each corpus, who builds it.
    turns: Mutex<BTreeMap<String, Arc<tokio::sync::Mutex<()>>>>,
    closing: std::sync::atomic::AtomicBool,
}

impl Jobs {
    /// Builds a corpus from what was uploaded to it, when its turn comes. A job that waits already takes these files along.
    pub(crate) fn start(self: &Arc<Self>, served: &Served, names: Vec<String>) -> Job {
        let mut entries = self.entries.lock().unwrap_or_else(PoisonError::into_inner);
        let documents: Vec<JobDocument> = names
            .into_iter()
            .map(|document| JobDocument { document, state: DocumentState::Waiting, reason: None })
            .collect();
        let waiting = entries.values().find(|entry| {
            let job = entry.state.borrow();
            job.state == JobState::Waiting && job.corpus == served.name && entry.owner == served.owner
        });
        if let Some(entry) = waiting {
            let mut took = false;
            entry.state.send_if_modified(|job| {
                // It may have begun since.
                took = job.state == JobState::Waiting;
                if took {
                    job.documents.extend(documents.iter().cloned());
                }
                took
            });
            if took {
                return entry.state.borrow().clone();
            }
        }
        let number = entries.last_key_value().map_or(1, |(last, _)| last + 1);
        let job = Job {
            job: number,
            corpus: served.name.clone(),
            state: JobState::Waiting,
            done: 0,
            total: 0,
            documents,
            report: None,
            problem: None,
        };
        let (state, _) = watch::channel(job.clone());
        let entry = Arc::new(Entry { owner: served.owner.clone(), state, stop: StopToken::default() });
        entries.insert(number, entry.clone());
        let ended: Vec<u64> =
            entries.iter().filter(|(_, entry)| entry.state.borrow().has_ended()).map(|(number, _)| *number).collect();
        for number in ended.iter().take(ended.len().saturating_sub(MAX_ENDED)) {
            entries.remove(number);
        }
        drop(entries);
        let turn = {
            let mut turns = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
            turns.entry(served.owner.as_ref().unwrap_or(&served.name).clone()).or_default().clone()
        };
        if self.closing.load(std::sync::atomic::Ordering::Relaxed) {
            entry.stop.stop();
        }
        tokio::spawn(run(entry, turn, served.clone()));
        job
    }

    /// Returns all jobs that a visitor may see, the latest first.
    pub(crate) fn all(&self, visitor: &Visitor) -> Vec<Job> {
        let entries = self.entries.lock().unwrap_or_else(PoisonError::into_inner);
        entries.values().rev().filter(|entry| entry.is_for(visitor)).map(|entry| entry.state.borrow().clone()).collect()
    }

    /// Returns a job, to be watched; `None` if a visitor sees none of this number.
    pub(crate) fn watch(&self, number: u64, visitor: &Visitor) -> Option<watch::Receiver<Job>> {
        self.find(number, visitor).map(|entry| entry.state.subscribe())
    }

    fn find(&self, number: u64, visitor: &Visitor) -> Option<Arc<Entry>> {
        let entries = self.entries.lock().unwrap_or_else(PoisonError::into_inner);
        entries.get(&number).filter(|entry| entry.is_for(visitor)).cloned()
    }

    /// Stops a job. What it has read by then is kept. Returns `false` if a visitor sees none of this number.
    pub(crate) fn stop(&self, number: u64, visitor: &Visitor) -> bool {
        self.find(number, visitor).map(|entry| entry.stop.stop()).is_some()
    }

    /// Returns the number of jobs that have not ended.
    pub(crate) fn at_work(&self) -> usize {
        let entries = self.entries.lock().unwrap_or_else(PoisonError::into_inner);
        entries.values().filter(|entry| !entry.state.borrow().has_ended()).count()
    }

    /// Stops all jobs, and waits until each has committed what it read.
    pub(crate) async fn close(&self) {
        self.closing.store(true, std::sync::atomic::Ordering::Relaxed);
        let watched: Vec<watch::Receiver<Job>> = {
            let entries = self.entries.lock().unwrap_or_else(PoisonError::into_inner);
            entries.values().for_each(|entry| entry.stop.stop());
            entries.values().map(|entry| entry.state.subscribe()).collect()
        };
        for mut job in watched {
            // It fails only if the job is gone.
            let _ = job.wait_for(Job::has_ended).await;
        }
    }
}

/// Waits for the turn of a job, and does it.
async fn run(entry: Arc<Entry>, turn: Arc<tokio::sync::Mutex<()>>, served: Served) {
    let _turn = turn.lock().await;
    if entry.stop.is_stopped() {
        entry.state.send_modify(|job| job.state = JobState::Stopped);
        return;
    }
    let Some(uploads) = &served.uploads else { return };
    let built = loop {
        entry.state.send_modify(|job| job.state = JobState::Running);
        let teller = entry.clone();
        let request = BuildRequest::new([uploads.folder()])
            .prune(true)
            .stopped_by(entry.stop.clone())
            .on_progress(move |progress| teller.state.send_modify(|job| job.progress(progress)));
        let built: Result<BuildReport, Error> = served.corpus.build(request).await;
        // Another process builds this corpus: the job waits until that is done.
        if !built.as_ref().is_err_and(|error| error.kind() == ErrorKind::Busy) {
            break built;
        }
        entry.state.send_modify(|job| job.state = JobState::Waiting);
        tokio::time::sleep(BUSY).await;
        if entry.stop.is_stopped() {
            entry.state.send_modify(|job| job.state = JobState::Stopped);
            return;
        }
    };
    entry.state.send_modify(|job| match built {
        Ok(report) => job.end(&report),
        Err(error) => {
            job.state = JobState::Failed;
            job.problem = Some(error.into());
        }
    });
}
