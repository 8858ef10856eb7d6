//! Packs a model for embedding:
//! `cargo run --release -p logothete-encoder --no-default-features --example pack -- MODEL OUT NAME LANGUAGE…`
//!
//! MODEL is a folder with `config.json`, `tokenizer.json` and `*.safetensors`; OUT gets `encoder.json`, and in
//! `*.safetensors` the vocabulary and the weights, a few files of less than 4 MiB. The same model gives the same files, byte for byte.

use std::path::Path;
use std::{env, fs};

use logothete_core::{Error, ErrorKind, Result};

fn main() -> Result<()> {
    let arguments: Vec<String> = env::args().skip(1).collect();
    let [model, out, name, languages @ ..] = arguments.as_slice() else {
        return Err(Error::new(ErrorKind::Configuration, "give a model, an output folder, a name and its languages"));
    };
    let languages: Vec<&str> = languages.iter().map(String::as_str).collect();
    let out = Path::new(out);
    let failed = |path: &Path| {
        let message = format!("{} cannot be written; check the folder", path.display());
        move |error| Error::new(ErrorKind::System, message).because(error)
    };
    fs::create_dir_all(out).map_err(failed(out))?;
    let weights = logothete_encoder::pack(Path::new(model), name, &languages, |file, bytes| {
        println!("{:>9} bytes  {file}", bytes.len());
        let path = out.join(file);
        fs::write(&path, bytes).map_err(failed(&path))
    })?;
    println!("{name}; weights {weights}");
    Ok(())
}
