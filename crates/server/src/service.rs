//! The service: what its requests share, and how it begins and ends.

use std::fmt;
use std::future::{Future, IntoFuture};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use logothete::config::{ServeConfig, Uploads};
use logothete::{Corpus, Error, ErrorKind, Result};
use tokio::net::TcpListener;
use tokio::sync::watch;

use crate::api;
use crate::api::Traces;
use crate::corpora::{Corpora, OWN, Served};
use crate::gate::Gate;
use crate::guard::{Hosts, Token};
use crate::jobs::Jobs;
use crate::meters::Meters;
use crate::visitors::{Sessions, Visitor};

/// So long clients may take to read what was sent to them before the service ended.
const GRACE: Duration = Duration::from_secs(5);

/// A corpus as a service. Clones share one.
#[derive(Clone)]
pub struct Service(Arc<Inner>);

struct Inner {
    config: ServeConfig,
    corpora: Corpora,
    jobs: Arc<Jobs>,
    gate: Gate,
    hosts: Hosts,
    meters: Meters,
    sessions: Sessions,
    token: Option<Token>,
    traces: Traces,
    /// Becomes true when the service closes, so that streams end.
    closing: watch::Sender<bool>,
}

impl fmt::Debug for Service {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Service").field("config", &self.0.config).finish_non_exhaustive()
    }
}

impl Service {
    /// Serves a corpus to whoever reaches the address that is listened on.
    pub fn new(corpus: Corpus, config: ServeConfig) -> Self {
        Self::made(corpus, config, None)
    }

    /// Serves a corpus to those who know a token.
    pub fn with_token(corpus: Corpus, config: ServeConfig, token: &str) -> Self {
        Self::made(corpus, config, Some(Token::new(token)))
    }

    fn made(corpus: Corpus, config: ServeConfig, token: Option<Token>) -> Self {
        Self(Arc::new(Inner {
            corpora: Corpora::new(corpus, config.own_time()),
            jobs: Arc::default(),
            gate: Gate::new(&config),
            hosts: Hosts::new(&config.hosts),
            meters: Meters::default(),
            sessions: Sessions::default(),
            token,
            traces: Traces::default(),
            closing: watch::channel(false).0,
            config,
        }))
    }

    /// Returns the router of the page and the API, to be mounted in a program of one's own. It guards itself: against pages of other sites, and by
    /// the token if there is one. For a limit by address, the program must serve it with the addresses of its clients.
    pub fn router(&self) -> Router {
        api::router(self)
    }

    /// Answers requests until `until` is over; then streams end with a last event, builds commit what they have read, and it returns.
    ///
    /// # Errors
    /// If the listener fails.
    pub async fn serve(self, listener: TcpListener, until: impl Future<Output = ()> + Send + 'static) -> Result<()> {
        if let Some(uploads) = self.corpora().get(None).await?.uploads {
            uploads.sweep().await;
        }
        let keeper = self.clone();
        let keeping = tokio::spawn(async move { keeper.corpora().keep_own().await });
        let (closing, (closed, mut is_closed)) = (self.clone(), watch::channel(false));
        let router = self.router().into_make_service_with_connect_info::<SocketAddr>();
        let served = axum::serve(listener, router).with_graceful_shutdown(async move {
            until.await;
            closing.close().await;
            closed.send_replace(true);
        });
        let outcome = tokio::select! {
            outcome = served.into_future() => outcome,
            // A client that reads nothing does not keep the program.
            () = async {
                // It fails only if the service has ended.
                let _ = is_closed.wait_for(|closed| *closed).await;
                tokio::time::sleep(GRACE).await;
            } => Ok(()),
        };
        keeping.abort();
        outcome.map_err(|error| Error::new(ErrorKind::System, "the listener failed").because(error))
    }

    /// Ends streams, and stops builds in good order. [`serve`](Self::serve) does it by itself.
    pub async fn close(&self) {
        self.0.closing.send_replace(true);
        self.0.jobs.close().await;
    }

    pub(crate) fn config(&self) -> &ServeConfig {
        &self.0.config
    }

    pub(crate) fn corpora(&self) -> &Corpora {
        &self.0.corpora
    }

    /// Returns the corpus that the service was started with.
    pub(crate) fn main_corpus(&self) -> Corpus {
        self.0.corpora.main()
    }

    pub(crate) fn jobs(&self) -> &Arc<Jobs> {
        &self.0.jobs
    }

    pub(crate) fn gate(&self) -> &Gate {
        &self.0.gate
    }

    pub(crate) fn hosts(&self) -> &Hosts {
        &self.0.hosts
    }

    pub(crate) fn meters(&self) -> &Meters {
        &self.0.meters
    }

    pub(crate) fn sessions(&self) -> &Sessions {
        &self.0.sessions
    }

    /// Returns the corpus of a name as a visitor uses it: with their own key, if they gave one. `None` means the first corpus, or their own where
    /// uploads are private.
    ///
    /// # Errors
    /// If there is none of this name.
    pub(crate) async fn served(&self, name: Option<&str>, visitor: &Visitor) -> Result<Served> {
        let mut served = match (self.0.config.uploads, name) {
            (Uploads::Private, None | Some(OWN)) if visitor.is_new => {
                let message = "each visitor has a corpus of their own, and is known by a cookie; send back the one that this response sets";
                return Err(Error::new(ErrorKind::Refused, message));
            }
            (Uploads::Private, None | Some(OWN)) => self.0.corpora.own(&visitor.id).await?,
            _ => self.0.corpora.get(name).await?,
        };
        if let Some(key) = self.0.sessions.key(visitor) {
            served.corpus = served.corpus.with_generator_key(&key);
        }
        Ok(served)
    }

    pub(crate) fn token(&self) -> Option<&Token> {
        self.0.token.as_ref()
    }

    pub(crate) fn traces(&self) -> &Traces {
        &self.0.traces
    }

    /// Returns what becomes true when the service closes.
    pub(crate) fn closing(&self) -> watch::Receiver<bool> {
        self.0.closing.subscribe()
    }
}
