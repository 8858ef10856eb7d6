//! How many questions are worked on at once, how many wait, and how many an address may send.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use logothete::config::ServeConfig;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::problem::{Outcome, Problem};

/// So many addresses are remembered; then those that are quiet are forgotten.
const MAX_ADDRESSES: usize = 10_000;

/// Lets questions in, and sends away those that would make others wait for long.
pub(crate) struct Gate {
    working: Arc<Semaphore>,
    /// Those that work and those that wait.
    inside: Arc<Semaphore>,
    a_minute: u32,
    paces: Mutex<HashMap<IpAddr, Pace>>,
}

/// A right to work. Dropping it lets the next one in.
#[derive(Debug)]
pub(crate) struct Pass {
    _working: OwnedSemaphorePermit,
    _inside: OwnedSemaphorePermit,
}

/// What an address may still send, which grows with time.
#[derive(Clone, Copy)]
struct Pace {
    left: f64,
    at: Instant,
}

impl Gate {
    pub(crate) fn new(config: &ServeConfig) -> Self {
        Self {
            working: Arc::new(Semaphore::new(config.at_once)),
            inside: Arc::new(Semaphore::new(config.at_once.saturating_add(config.waiting))),
            a_minute: config.questions_a_minute,
            paces: Mutex::default(),
        }
    }

    /// Waits for the turn of a question.
    ///
    /// # Errors
    /// If too many wait already, or its address has sent too many.
    pub(crate) async fn enter(&self, from: Option<IpAddr>) -> Outcome<Pass> {
        if let Some(from) = from {
            self.pace(from, Instant::now())?;
        }
        let inside = self.inside.clone().try_acquire_owned();
        let inside =
            inside.map_err(|_| Problem::too_many("many questions are being worked on; ask again in a moment", 1))?;
        let working = self.working.clone().acquire_owned().await;
        let working = working.map_err(|_| Problem::too_many("the service is closing", 1))?;
        Ok(Pass { _working: working, _inside: inside })
    }

    fn pace(&self, from: IpAddr, now: Instant) -> Outcome<()> {
        if self.a_minute == 0 {
            return Ok(());
        }
        let most = f64::from(self.a_minute);
        let mut paces = self.paces.lock().unwrap_or_else(PoisonError::into_inner);
        if paces.len() >= MAX_ADDRESSES {
            paces.retain(|_, pace| now.duration_since(pace.at).as_secs() < 60);
        }
        let pace = paces.entry(from).or_insert(Pace { left: most, at: now });
        pace.left = (pace.left + now.duration_since(pace.at).as_secs_f64() * most / 60.0).min(most);
        pace.at = now;
        if pace.left < 1.0 {
            let wait = ((1.0 - pace.left) * 60.0 / most).ceil();
            let message = format!("an address may send {most} questions a minute");
            return Err(Problem::too_many(message, wait as u64));
        }
        pace.left -= 1.0;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    fn gate(a_minute: u32, at_once: usize, waiting: usize) -> Gate {
        let mut config = ServeConfig::default();
        (config.questions_a_minute, config.at_once, config.waiting) = (a_minute, at_once, waiting);
        Gate::new(&config)
    }

    #[test]
    fn an_address_has_its_pace() {
        let gate = gate(6, 1, 1);
        let (one, other) = (IpAddr::from([127, 0, 0, 1]), IpAddr::from([127, 0, 0, 2]));
        let start = Instant::now();
        assert!((0..6).all(|_| gate.pace(one, start).is_ok()));
        let refused = gate.pace(one, start).expect_err("too many");
        assert_eq!((refused.status, refused.retry_after), (429, Some(10)));
        assert!(gate.pace(other, start).is_ok(), "another address");
        assert!(gate.pace(one, start + Duration::from_secs(10)).is_ok(), "ten seconds later");
        assert!(gate.pace(one, start + Duration::from_secs(10)).is_err());
    }

    #[tokio::test]
    async fn those_beyond_the_waiting_ones_are_sent_away() {
        let gate = Arc::new(gate(0, 1, 1));
        let first = gate.enter(None).await.expect("a pass");
        let second = tokio::spawn({
            let gate = gate.clone();
            async move { gate.enter(None).await }
        });
        tokio::task::yield_now().await;
        assert_eq!(gate.enter(None).await.expect_err("no room").status, 429);
        drop(first);
        drop(second.await.expect("a task").expect("its turn"));
        assert!(gate.enter(None).await.is_ok());
    }
}
