//! Asks a service, and shows what happens as it happens. Uses nothing but a connection, to show what the stream looks like.
//!
//! In one terminal `logothete demo --serve`, in another `cargo run -p logothete-server --example ask_stream`.

use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;

use serde_json::{Value, json};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let address = arguments.next().unwrap_or_else(|| "127.0.0.1:8472".to_owned());
    let question =
        arguments.next().unwrap_or_else(|| "What draught may enter the North Channel at low water?".to_owned());

    let body = json!({ "question": question }).to_string();
    let mut connection = TcpStream::connect(&address)?;
    write!(
        connection,
        "POST /v1/ask HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\nAccept: text/event-stream\r\n\
         Content-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    )?;
    let mut name = String::new();
    for line in BufReader::new(connection).lines() {
        let line = line?;
        if let Some(event) = line.strip_prefix("event: ") {
            event.clone_into(&mut name);
        }
        let Some(data) = line.strip_prefix("data: ") else { continue };
        let value: Value = serde_json::from_str(data)?;
        match name.as_str() {
            "stage" => println!("  … {} is done", value["stage"].as_str().unwrap_or_default()),
            "text" => print!("{}", value["text"].as_str().unwrap_or_default()),
            "claim" => println!("\n  … a claim is {}", value["verdict"].as_str().unwrap_or_default()),
            "problem" => println!("{}", value["detail"].as_str().unwrap_or_default()),
            "end" => {
                println!();
                for source in value["sources"].as_array().into_iter().flatten() {
                    let text = |name: &str| source[name].as_str().unwrap_or_default();
                    println!("[{}] {}: “{}”", source["marker"], text("document"), text("quotation"));
                }
            }
            _ => {}
        }
        std::io::stdout().flush()?;
    }
    Ok(())
}
