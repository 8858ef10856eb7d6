//! The files of a model as it was trained: `config.json`, `tokenizer.json`, and weights as `*.safetensors`.

use std::borrow::Cow;
use std::fs;
use std::path::{Path, PathBuf};

use logothete_core::{Error, ErrorKind, Result};
use serde_json::Value;

use crate::bert::Shape;
use crate::kernel::Activation;
use crate::tokenise::{self, Tokeniser};
use crate::weights::Tensors;

/// The files of a model.
pub struct Folder<'a> {
    pub path: &'a Path,
}

/// What every model in a folder has.
pub struct Parts {
    pub config: Value,
    pub shape: Shape,
    /// The first position that texts use.
    pub first_position: usize,
    pub tokeniser: Tokeniser,
    pub tensors: Tensors,
    /// The hashes of the files, for a fingerprint.
    pub hashes: Vec<String>,
}

impl Folder<'_> {
    /// Reads the configuration, the tokeniser and the weights.
    pub fn parts(&self) -> Result<Parts> {
        let config = self.json("config.json")?;
        let (shape, first_position) = shape(&config)?;
        let file = self.bytes("tokenizer.json")?;
        let tokeniser = tokenise::read(&file).map_err(|error| error.at("tokenizer.json"))?;
        let mut hashes = vec![blake3::hash(&file).to_hex().to_string(), config.to_string()];
        let tensors = self.tensors("", &mut hashes)?;
        Ok(Parts { config, shape, first_position, tokeniser, tensors, hashes })
    }

    pub fn bytes(&self, name: &str) -> Result<Vec<u8>> {
        let path = self.path.join(name);
        fs::read(&path).map_err(|error| {
            let message = match error.kind() {
                std::io::ErrorKind::NotFound => {
                    "this file is missing; a model's folder holds config.json, tokenizer.json and its weights as *.safetensors"
                }
                _ => "it cannot be read",
            };
            Error::new(ErrorKind::NotFound, message).at(path.display()).because(error)
        })
    }

    pub fn json(&self, name: &str) -> Result<Value> {
        serde_json::from_slice(&self.bytes(name)?)
            .map_err(|e| Error::new(ErrorKind::Unreadable, "it is not JSON; get the file again").at(name).because(e))
    }

    /// Returns the JSON of a file that may be missing.
    pub fn json_if_there(&self, name: &str) -> Result<Value> {
        if self.path.join(name).is_file() { self.json(name) } else { Ok(Value::Null) }
    }

    /// Returns the names of files of a type, in order.
    pub fn files(&self, folder: &str, extension: &str) -> Result<Vec<String>> {
        let path = self.path.join(folder);
        let entries = fs::read_dir(&path).map_err(|error| {
            let message = "this folder of a model cannot be listed; check the path";
            Error::new(ErrorKind::NotFound, message).at(path.display()).because(error)
        })?;
        let names = entries.filter_map(|entry| Some(entry.ok()?.path())).filter(|path| path.is_file());
        let fits = names.filter(|path| path.extension().is_some_and(|found| found == extension));
        let relative = fits.filter_map(|path| Some(PathBuf::from(folder).join(path.file_name()?).to_str()?.to_owned()));
        let mut names: Vec<String> = relative.collect();
        names.sort();
        Ok(names)
    }

    /// Returns the tensors of all weight files in a folder, and their hashes.
    pub fn tensors(&self, folder: &str, hashes: &mut Vec<String>) -> Result<Tensors> {
        let mut tensors = Tensors::default();
        let files = self.files(folder, "safetensors")?;
        if files.is_empty() {
            let message = "there are no weights; a model's folder holds them as *.safetensors";
            return Err(Error::new(ErrorKind::NotFound, message).at(self.path.join(folder).display()));
        }
        for file in files {
            let bytes = self.bytes(&file)?;
            hashes.push(blake3::hash(&bytes).to_hex().to_string());
            tensors.add_file(&file, &Cow::Owned(bytes))?;
        }
        Ok(tensors)
    }
}

/// Returns a key of a file, with its description for errors.
pub fn number(json: &Value, file: &str, key: &str) -> Result<usize> {
    json[key].as_u64().and_then(|number| usize::try_from(number).ok()).filter(|&number| number > 0).ok_or_else(|| {
        let message = format!("key “{key}” is missing, or not a positive number");
        Error::new(ErrorKind::Unreadable, message).at(file)
    })
}

/// Returns the file `config.json`: the sizes, and the first position that texts use.
fn shape(json: &Value) -> Result<(Shape, usize)> {
    const FILE: &str = "config.json";
    let unsupported = |message: String| Error::new(ErrorKind::Unsupported, message).at(FILE);
    let first_position = match json["model_type"].as_str().unwrap_or_default() {
        "bert" => 0,
        "roberta" | "xlm-roberta" | "camembert" => json["pad_token_id"].as_u64().unwrap_or(1) as usize + 1,
        other => {
            let message = format!("a model of the type “{other}” is not read; bert, roberta and xlm-roberta are");
            return Err(unsupported(message));
        }
    };
    if let Some(other) = json["position_embedding_type"].as_str().filter(|kind| *kind != "absolute") {
        return Err(unsupported(format!("positions of the kind “{other}” are not read; absolute ones are")));
    }
    let activation = match json["hidden_act"].as_str().unwrap_or("gelu") {
        "gelu" => Activation::Gelu,
        "gelu_new" | "gelu_pytorch_tanh" => Activation::GeluTanh,
        "relu" => Activation::Relu,
        other => return Err(unsupported(format!("hidden_act “{other}” is not known; gelu, gelu_new and relu are"))),
    };
    let positions = number(json, FILE, "max_position_embeddings")?;
    let shape = Shape {
        hidden: number(json, FILE, "hidden_size")?,
        layers: number(json, FILE, "num_hidden_layers")?,
        heads: number(json, FILE, "num_attention_heads")?,
        wide: number(json, FILE, "intermediate_size")?,
        words: number(json, FILE, "vocab_size")?,
        positions: positions.saturating_sub(first_position).max(1),
        epsilon: json["layer_norm_eps"].as_f64().unwrap_or(1e-12) as f32,
        activation,
    };
    if !shape.hidden.is_multiple_of(shape.heads) {
        let message = format!("hidden_size {} is not a multiple of num_attention_heads {}", shape.hidden, shape.heads);
        return Err(Error::new(ErrorKind::Unreadable, message).at(FILE));
    }
    Ok((shape, first_position))
}
