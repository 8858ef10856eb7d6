//! Threads: computing never waits for a network, and a search never waits behind a build or an export.
//!
//! Each open corpus has two pools of as many threads as there are processors: one for queries, one for everything else. A call
//! that takes long is led by a thread of its own, its *driver*, which waits for sources, services and the disk, and gives
//! pieces of computation to the pool.

pub(crate) mod process;
mod stop;

use std::any::Any;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use futures_util::FutureExt;
use logothete_core::{Error, ErrorKind, Result, panic_message};
use rayon::{ThreadPool, ThreadPoolBuilder};
use tokio::sync::oneshot;

pub use stop::StopToken;

/// The stack of each thread. The parsers bound how deep input may nest; this is the margin.
const STACK: usize = 16 << 20;
/// The name of every thread, so that a panic in one can be told from a panic elsewhere.
pub const THREAD_NAME: &str = "logothete-worker";

/// The threads of an open corpus. They start when they are first needed.
#[derive(Default)]
pub(crate) struct Threads {
    queries: OnceLock<Arc<ThreadPool>>,
    work: OnceLock<Arc<ThreadPool>>,
}

/// Leads a call that takes long.
pub(crate) struct Driver {
    runtime: Option<tokio::runtime::Handle>,
    work: Arc<ThreadPool>,
}

fn pool(cell: &OnceLock<Arc<ThreadPool>>) -> Result<Arc<ThreadPool>> {
    if let Some(pool) = cell.get() {
        return Ok(pool.clone());
    }
    let built = ThreadPoolBuilder::new().stack_size(STACK).thread_name(|_| THREAD_NAME.to_owned()).build();
    let built = built.map_err(|error| Error::new(ErrorKind::System, "no threads could be started").because(error))?;
    // Of two that come here at once, one pool is dropped.
    Ok(cell.get_or_init(|| Arc::new(built)).clone())
}

impl Threads {
    /// Runs a query on the pool for queries.
    pub(crate) async fn query<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let (sender, receiver) = oneshot::channel();
        // Nobody receives the outcome if the caller has dropped the future.
        pool(&self.queries)?.spawn(move || drop(sender.send(caught(work))));
        received(receiver).await
    }

    /// Runs work that takes long, led by a driver.
    pub(crate) async fn drive<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Driver) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let driver = Driver { runtime: tokio::runtime::Handle::try_current().ok(), work: pool(&self.work)? };
        let (sender, receiver) = oneshot::channel();
        spawn(move || drop(sender.send(caught(|| work(&driver)))))?;
        received(receiver).await
    }
}

impl Driver {
    /// Computes on the pool for work. What runs inside must not wait for anything.
    pub(crate) fn compute<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        self.work.install(work)
    }

    /// Waits for a future. It is polled on this thread, inside the caller's runtime if there is one.
    pub(crate) fn wait<T>(&self, future: impl Future<Output = T>) -> T {
        match &self.runtime {
            Some(runtime) => runtime.block_on(future),
            None => block_on(future),
        }
    }
}

/// Starts a thread.
fn spawn(work: impl FnOnce() + Send + 'static) -> Result<()> {
    let started = std::thread::Builder::new().name(THREAD_NAME.to_owned()).stack_size(STACK).spawn(work);
    started.map(drop).map_err(|error| Error::new(ErrorKind::System, "no thread could be started").because(error))
}

/// Runs work, and turns a panic into an error with its message.
pub(crate) fn caught<T>(work: impl FnOnce() -> Result<T>) -> Result<T> {
    caught_in("a stage", work)
}

/// Runs a stage of the user's own, and turns a panic into an error with the name of the stage and the message of the panic.
pub(crate) fn caught_in<T>(stage: &str, work: impl FnOnce() -> Result<T>) -> Result<T> {
    catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(|panic| Err(panicked(stage, &*panic)))
}

/// Awaits a stage of the user's own, like [`caught_in`]. A call that panics before it returns its future belongs inside an `async` block.
pub(crate) async fn caught_future<T>(stage: &str, future: impl Future<Output = Result<T>>) -> Result<T> {
    AssertUnwindSafe(future).catch_unwind().await.unwrap_or_else(|panic| Err(panicked(stage, &*panic)))
}

fn panicked(stage: &str, panic: &(dyn Any + Send)) -> Error {
    Error::new(ErrorKind::System, format!("{stage} panicked: {}", panic_message(panic)))
}

async fn received<T>(receiver: oneshot::Receiver<Result<T>>) -> Result<T> {
    receiver.await.unwrap_or_else(|_| Err(Error::new(ErrorKind::System, "a thread ended without a result")))
}

/// Runs work of a source or a service on a thread of its own, so that a caller that awaits it is not blocked.
pub(crate) async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    let (sender, receiver) = oneshot::channel();
    spawn(move || drop(sender.send(caught(work))))?;
    received(receiver).await
}

/// How often a token is looked at.
const STEP: Duration = Duration::from_millis(20);

/// Completes after a pause, or soon after a stop is requested, in any runtime or none.
pub(crate) async fn sleep(pause: Duration, stop: &StopToken) {
    let (end, stop) = (Instant::now() + pause, stop.clone());
    // Pauses are rare, and a thread for each of them is cheap compared with the service.
    let _ = blocking(move || {
        while !stop.is_stopped() && Instant::now() < end {
            std::thread::sleep(STEP.min(end.saturating_duration_since(Instant::now())));
        }
        Ok(())
    })
    .await;
}

/// Completes soon after either of two stops is requested.
pub(crate) async fn either(one: &StopToken, other: &StopToken) {
    let (one, other) = (one.clone(), other.clone());
    let _ = blocking(move || {
        while !one.is_stopped() && !other.is_stopped() {
            std::thread::sleep(STEP);
        }
        Ok(())
    })
    .await;
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

/// Runs work on a thread of its own and waits up to `limit` for it, and a little longer after `stop` was called.
///
/// Work that does not end even then is abandoned on its thread, and `None` is returned.
pub(crate) fn within<T: Send + 'static>(
    limit: Duration,
    stop: impl FnOnce(),
    work: impl FnOnce() -> Result<T> + Send + 'static,
) -> Option<Result<T>> {
    /// The time to end in good order.
    const GRACE: Duration = Duration::from_millis(500);
    let (sender, receiver) = mpsc::channel();
    // Nobody receives the outcome when the time is over.
    if let Err(error) = spawn(move || drop(sender.send(work()))) {
        return Some(Err(error));
    }
    receiver.recv_timeout(limit).ok().or_else(|| {
        stop();
        receiver.recv_timeout(GRACE).ok()
    })
}
