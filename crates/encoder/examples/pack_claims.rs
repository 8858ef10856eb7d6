//! Packs what reads claims for embedding:
//! `cargo run --release -p logothete-encoder --no-default-features --example pack_claims -- TENSORS OUT`
//!
//! TENSORS is the file that `bench/claims/train.py` wrote; OUT gets a file of less than 4 MiB for each layer, and one for the head. The same tensors give the
//! same files, byte for byte.

use std::path::Path;
use std::{env, fs};

use logothete_core::{Error, ErrorKind, Result};

fn main() -> Result<()> {
    let arguments: Vec<String> = env::args().skip(1).collect();
    let wrong = || Error::new(ErrorKind::Configuration, "give a file of tensors and an output folder");
    let [tensors, out] = arguments.as_slice() else { return Err(wrong()) };
    let out = Path::new(out);
    let failed = |path: &Path| {
        let message = format!("{} cannot be written; check the folder", path.display());
        move |error| Error::new(ErrorKind::System, message).because(error)
    };
    fs::create_dir_all(out).map_err(failed(out))?;
    logothete_encoder::pack_claims(Path::new(tensors), |file, bytes| {
        println!("{:>9} bytes  {file}", bytes.len());
        let path = out.join(file);
        fs::write(&path, bytes).map_err(failed(&path))
    })
}
