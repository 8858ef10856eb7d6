//! Replies that threads write, as streams.

use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread;
use std::time::{Duration, Instant};

use futures_util::stream;
use logothete_core::{Error, ErrorKind, Result};
use tokio::sync::mpsc;

use super::{Generation, GenerationEvent, GenerationStream};
use crate::config::GeneratorConfig;

/// How often a reply that is waited for is looked at, to learn whether anybody still reads it.
const STEP: Duration = Duration::from_millis(50);

/// Gives the parts of a reply to whoever reads the stream.
pub(crate) struct PartSender(Sender<Result<GenerationEvent>>);

impl PartSender {
    /// Passes a part on. Returns `false` if nobody reads any more.
    pub(crate) fn send(&self, part: Result<GenerationEvent>) -> bool {
        self.0.send(part).is_ok()
    }
}

/// How long a reply may take.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ReplyTimes {
    /// Until the first part.
    pub first: Duration,
    /// Between two parts.
    pub silence: Duration,
    /// Until the end.
    pub whole: Duration,
}

impl ReplyTimes {
    pub(crate) fn new(config: &GeneratorConfig) -> Self {
        let [first, silence, whole] = [config.first_seconds, config.silence_seconds, config.seconds]
            .map(|seconds| Duration::from_secs(seconds.max(1)));
        Self { first, silence, whole }
    }
}

/// Runs the writer of a reply on a thread of its own, and ends the stream with an error if the writer takes too long. `end` is called
/// when the stream has ended or was dropped, and the writer may still be at work then.
pub(crate) fn written(
    times: ReplyTimes,
    write: impl FnOnce(&PartSender) + Send + 'static,
    end: impl FnOnce() + Send + 'static,
) -> GenerationStream<'static> {
    let (parts, received) = channel();
    let (sender, receiver) = mpsc::unbounded_channel();
    let start = |work: Box<dyn FnOnce() + Send>| {
        thread::Builder::new().name(crate::WORKER_THREAD.to_owned()).spawn(work).is_ok()
    };
    let until = Instant::now() + times.whole;
    let watch = move || {
        let mut next = Instant::now() + times.first;
        loop {
            let limit = next.min(until);
            let part = match received.recv_timeout(limit.saturating_duration_since(Instant::now()).min(STEP)) {
                Ok(part) => part,
                Err(RecvTimeoutError::Disconnected) => break,
                Err(RecvTimeoutError::Timeout) if sender.is_closed() => break,
                Err(RecvTimeoutError::Timeout) if Instant::now() < limit => continue,
                Err(RecvTimeoutError::Timeout) => {
                    let message = match limit == until {
                        true => format!(
                            "the reply took more than {} s; raise seconds in [generator]",
                            times.whole.as_secs()
                        ),
                        false => {
                            "the model was silent for too long; raise first_seconds or silence_seconds in [generator]"
                                .to_owned()
                        }
                    };
                    let _ = sender.send(Err(Error::new(ErrorKind::Unavailable, message)));
                    break;
                }
            };
            next = Instant::now() + times.silence;
            if sender.send(part).is_err() {
                break;
            }
        }
        end();
    };
    if !(start(Box::new(move || write(&PartSender(parts)))) && start(Box::new(watch))) {
        return Generation::failed(Error::new(ErrorKind::System, "no thread could be started"));
    }
    Box::pin(stream::unfold(receiver, |mut receiver| async move { receiver.recv().await.map(|part| (part, receiver)) }))
}
