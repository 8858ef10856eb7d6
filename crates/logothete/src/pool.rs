//! The threads that compute: a pool of the pipeline's own, apart from the async runtime's.

use std::sync::Arc;

use logothete_core::{Error, ErrorKind, Result};
use rayon::{ThreadPool, ThreadPoolBuilder};

/// The stack of each thread. Deeply nested input is bounded by the parsers; this is the margin.
const STACK: usize = 16 << 20;
/// The name of each thread, so that a panic in one can be told from a panic elsewhere.
pub const THREAD_NAME: &str = "logothete-worker";

/// A handle to the pool.
#[derive(Clone)]
pub(crate) struct Pool(Arc<ThreadPool>);

impl Pool {
    /// Starts as many threads as there are processors.
    pub(crate) fn new() -> Result<Self> {
        let pool = ThreadPoolBuilder::new().stack_size(STACK).thread_name(|_| THREAD_NAME.to_owned()).build();
        pool.map(|pool| Self(Arc::new(pool)))
            .map_err(|error| Error::new(ErrorKind::System, "no threads could be started").because(error))
    }

    /// Runs work on the pool and waits for it without blocking the caller's thread.
    pub(crate) async fn run<T: Send + 'static>(&self, work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
        let (sender, receiver) = tokio::sync::oneshot::channel();
        self.0.spawn(move || {
            // Work that panics is a bug; it ends the call with an error and not the process.
            let outcome = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work));
            // Nobody waits any more when the caller has dropped the future.
            let _ = sender.send(outcome);
        });
        match receiver.await {
            Ok(Ok(result)) => result,
            Ok(Err(_)) | Err(_) => {
                Err(Error::new(ErrorKind::System, "a worker stopped unexpectedly; please report this"))
            }
        }
    }
}
