//! What the services share: a port of this machine, and requests that are read from it.

use std::io::{BufRead, BufReader, Result};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;

use serde_json::Value;

/// A port on which a service listens until it is dropped.
#[derive(Debug)]
pub(crate) struct Listening {
    pub address: SocketAddr,
    ending: Arc<AtomicBool>,
}

/// A request.
pub(crate) struct Request {
    /// The names in small letters.
    pub headers: Vec<(String, String)>,
    /// `null` if it is not JSON.
    pub body: Value,
}

impl Listening {
    /// Listens on a port; 0 means any that is free. Each connection is served on a thread of its own.
    pub(crate) fn start(
        port: u16,
        serve: impl Fn(TcpStream, BufReader<TcpStream>) -> Result<()> + Send + Sync + 'static,
    ) -> logothete::Result<Self> {
        let failed = |error: std::io::Error| {
            let message = format!("port {port} cannot be listened on: {error}");
            logothete::Error::new(logothete::ErrorKind::System, message).because(error)
        };
        let listener = TcpListener::bind(("127.0.0.1", port)).map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        let ending = Arc::new(AtomicBool::new(false));
        let (ended, serve) = (ending.clone(), Arc::new(serve));
        thread::spawn(move || {
            for stream in listener.incoming() {
                if ended.load(Ordering::SeqCst) {
                    break;
                }
                let Ok(stream) = stream else { continue };
                // A part of a reply is sent at once.
                let _ = stream.set_nodelay(true);
                let Ok(reader) = stream.try_clone().map(BufReader::new) else { continue };
                let serve = serve.clone();
                // A caller that goes away while it is answered is no concern of the others.
                thread::spawn(move || drop(serve(stream, reader)));
            }
        });
        Ok(Self { address, ending })
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        self.ending.store(true, Ordering::SeqCst);
        // So that the listener looks up once more.
        drop(TcpStream::connect(self.address));
    }
}

/// Reads a request; `None` if the connection was closed.
pub(crate) fn read(reader: &mut impl BufRead) -> Result<Option<Request>> {
    let mut line = String::new();
    if reader.read_line(&mut line)? == 0 {
        return Ok(None);
    }
    let mut headers = Vec::new();
    loop {
        line.clear();
        reader.read_line(&mut line)?;
        let Some((name, value)) = line.trim_end().split_once(':') else { break };
        headers.push((name.to_lowercase(), value.trim().to_owned()));
    }
    let length = headers.iter().find(|(name, _)| name == "content-length").and_then(|(_, value)| value.parse().ok());
    let mut bytes = vec![0; length.unwrap_or(0)];
    reader.read_exact(&mut bytes)?;
    Ok(Some(Request { headers, body: serde_json::from_slice(&bytes).unwrap_or_default() }))
}

pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
