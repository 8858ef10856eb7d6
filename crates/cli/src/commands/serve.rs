//! `logothete serve`

use std::net::IpAddr;

use logothete::config::ServeConfig;
use logothete::{Config, Corpus, Error, ErrorKind, Result};
use logothete_server::{Service, Tools};
use serde_json::json;
use tokio::net::TcpListener;

use super::{configuration, corpus};
use crate::args::{CorpusArguments, ServeArguments};
use crate::view::{Style, indented};
use crate::{DONE, Output};

pub async fn run(at: &CorpusArguments, arguments: &ServeArguments, as_json: bool) -> Result<Output> {
    let (mut config, folder) = configuration(at)?;
    arguments.change(&mut config.serve);
    let corpus = corpus(at, &config, &folder, false).await?;
    serve(corpus, &config, arguments.open, as_json, "").await
}

/// Offers the corpus as tools, until the input ends. Standard output belongs to the protocol.
pub async fn tools(at: &CorpusArguments) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    Tools::new(corpus).on_standard_streams().await?;
    Ok(Output { text: String::new(), json: json!({}), code: DONE })
}

impl ServeArguments {
    /// Puts what the command line says in the place of settings.
    pub fn change(&self, config: &mut ServeConfig) {
        if let Some(port) = self.port {
            config.port = port;
        }
        if let Some(address) = &self.address {
            config.address.clone_from(address);
        }
    }
}

/// Serves a corpus until the program is told to end.
pub async fn serve(corpus: Corpus, config: &Config, is_open: bool, as_json: bool, about: &str) -> Result<Output> {
    let token = corpus.pipeline().serve_token()?;
    let place = format!("{}:{}", config.serve.address, config.serve.port);
    let address = match config.serve.address.parse::<IpAddr>() {
        Ok(address) => address,
        Err(error) => {
            let message = "this is no address of a machine, such as 127.0.0.1";
            return Err(Error::new(ErrorKind::Configuration, message).at("[serve] address").because(error));
        }
    };
    let is_local = address.is_loopback();
    if !is_local && token.is_none() && !is_open {
        let message = "other machines could read and change the corpus; name a token with token_env in [serve], or insist with --open";
        return Err(Error::new(ErrorKind::Refused, message).at(place));
    }
    let failed = |error: std::io::Error| {
        let message = match error.kind() {
            std::io::ErrorKind::AddrInUse => {
                "something else listens there; choose another port with --port, or 0 for any that is free".to_owned()
            }
            _ => format!("nothing can listen there: {error}"),
        };
        Error::new(ErrorKind::System, message).at(&place).because(error)
    };
    let listener = TcpListener::bind((address, config.serve.port)).await.map_err(failed)?;
    let address = listener.local_addr().map_err(failed)?;
    let url = format!("http://{address}/");
    if as_json {
        println!("{}", json!({ "version": crate::JSON_VERSION, "serving": url }));
    } else {
        let style = Style::of_stdout();
        let mut text = about.to_owned();
        text.push_str(&format!("The page is at {}\n", style.place(&url)));
        text.push_str(&format!(
            "{}\n",
            style.faint(&format!("The API is described at {url}v1/openapi.json. Ctrl-C ends both."))
        ));
        if !is_local && token.is_none() {
            let warning =
                "Whoever reaches this address reads the corpus, and adds and removes documents: there is no token.";
            text.push_str(&style.warning(indented(warning, 0).trim_end()));
            text.push('\n');
        }
        super::ask::print_now(&text);
    }
    let service = match &token {
        Some(token) => Service::with_token(corpus, config.serve.clone(), token),
        None => Service::new(corpus, config.serve.clone()),
    };
    service.serve(listener, ended()).await?;
    Ok(Output { text: String::new(), json: json!({ "served": url }), code: DONE })
}

/// Waits until the program is told to end.
async fn ended() {
    #[cfg(unix)]
    {
        use tokio::signal::unix::{SignalKind, signal};
        if let Ok(mut terminate) = signal(SignalKind::terminate()) {
            tokio::select! {
                _ = terminate.recv() => {}
                _ = tokio::signal::ctrl_c() => {}
            }
            return;
        }
    }
    // It fails only where a program cannot listen for it.
    let _ = tokio::signal::ctrl_c().await;
}
