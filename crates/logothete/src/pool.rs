//! The threads that compute: a pool of the pipeline's own, apart from the async runtime's.

use std::future::Future;
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

/// Waits for futures on threads that compute.
///
/// Futures of the caller's runtime need that runtime; without one they are polled here.
#[derive(Clone)]
pub(crate) struct Waiter(Option<tokio::runtime::Handle>);

impl Waiter {
    /// One that knows the runtime of the calling task, if there is any.
    pub(crate) fn here() -> Self {
        Self(tokio::runtime::Handle::try_current().ok())
    }

    /// Waits for a future.
    pub(crate) fn wait<T>(&self, future: impl Future<Output = T>) -> T {
        match &self.0 {
            Some(handle) => handle.block_on(future),
            None => block_on(future),
        }
    }
}

/// Polls a future on this thread, which sleeps in between.
fn block_on<T>(future: impl Future<Output = T>) -> T {
    struct Unpark(std::thread::Thread);
    impl std::task::Wake for Unpark {
        fn wake(self: Arc<Self>) {
            self.0.unpark();
        }
    }
    let waker = Arc::new(Unpark(std::thread::current())).into();
    let mut context = std::task::Context::from_waker(&waker);
    let mut future = std::pin::pin!(future);
    loop {
        match future.as_mut().poll(&mut context) {
            std::task::Poll::Ready(value) => return value,
            std::task::Poll::Pending => std::thread::park(),
        }
    }
}

/// Runs work on a thread of its own and waits no longer than some time for it, and a little more once it was told to stop.
///
/// Work that does not stop even then is left behind on its thread: the caller goes on without it.
pub(crate) fn within<T: Send + 'static>(
    limit: std::time::Duration,
    stop: impl FnOnce(),
    work: impl FnOnce() -> Result<T> + Send + 'static,
) -> Option<Result<T>> {
    /// Time to come to an end in good order.
    const GRACE: std::time::Duration = std::time::Duration::from_millis(500);
    let (sender, receiver) = std::sync::mpsc::channel();
    let started = std::thread::Builder::new().name(THREAD_NAME.to_owned()).stack_size(STACK).spawn(move || {
        // Nobody waits any more when the time is over.
        let _ = sender.send(work());
    });
    if let Err(error) = started {
        return Some(Err(Error::new(ErrorKind::System, "no thread could be started").because(error)));
    }
    receiver.recv_timeout(limit).ok().or_else(|| {
        stop();
        receiver.recv_timeout(GRACE).ok()
    })
}
