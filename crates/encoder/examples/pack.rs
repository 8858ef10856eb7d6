//! Packs a model for embedding:
//! `cargo run --release -p logothete-encoder --no-default-features --example pack -- MODEL OUT NAME TOKEN_DIMENSIONS LANGUAGE…`
//!
//! MODEL is a folder with `config.json`, `tokenizer.json` and `*.safetensors`; OUT gets `encoder.json`, and in
//! `*.safetensors` the vocabulary and the weights, a few files of less than 4 MiB. Of the vector of a token, the first
//! TOKEN_DIMENSIONS numbers are kept. The same model gives the same files, byte for byte.

use std::path::Path;
use std::{env, fs};

use logothete_core::{Error, ErrorKind, Result};

fn main() -> Result<()> {
    let arguments: Vec<String> = env::args().skip(1).collect();
    let wrong = "give a model, an output folder, a name, the numbers that are kept of a token's vector, and languages";
    let wrong = || Error::new(ErrorKind::Configuration, wrong);
    let [model, out, name, token_dimensions, languages @ ..] = arguments.as_slice() else { return Err(wrong()) };
    let token_dimensions = token_dimensions.parse().map_err(|_| wrong())?;
    let languages: Vec<&str> = languages.iter().map(String::as_str).collect();
    let out = Path::new(out);
    let failed = |path: &Path| {
        let message = format!("{} cannot be written; check the folder", path.display());
        move |error| Error::new(ErrorKind::System, message).because(error)
    };
    fs::create_dir_all(out).map_err(failed(out))?;
    let weights =
        logothete_encoder::pack(Path::new(model), name, &languages, Some(token_dimensions), |file, bytes| {
            println!("{:>9} bytes  {file}", bytes.len());
            let path = out.join(file);
            fs::write(&path, bytes).map_err(failed(&path))
        })?;
    println!("{name}; weights {weights}");
    Ok(())
}
