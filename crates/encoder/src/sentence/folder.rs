//! An encoder from a folder: the weights, `config.json`, `tokenizer.json`, and what else is there.

use std::path::Path;

use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use serde_json::Value;

use super::{Pooling, Projection, SentenceEncoder, VERSION, kept_of_token};
use crate::bert::{Network, Precision, Rooms, new_matrix};
use crate::folder::{Folder, Parts, number};
use crate::kernel::Kernel;

/// Settings of a model. Whatever is not set is taken from its files.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FolderSettings {
    /// The prefix of queries.
    pub query_prefix: Option<String>,
    /// The prefix of passages.
    pub passage_prefix: Option<String>,
    /// How the vectors of tokens are pooled. The default is what the files say, or else the mean.
    pub pooling: Option<Pooling>,
    /// The greatest number of tokens of a text, with those that mark its ends.
    pub max_tokens: Option<usize>,
    /// As many of the first numbers of a token's vector are kept. The default is all.
    pub token_dimensions: Option<usize>,
    /// How precisely it is computed.
    pub precision: Precision,
}

/// Returns the pooling that a folder's own settings name.
fn pooling(json: &Value) -> Result<Option<Pooling>> {
    let modes = [("mean_tokens", Pooling::Mean), ("cls_token", Pooling::First), ("max_tokens", Pooling::Max)];
    let set = |mode: &str| json[format!("pooling_mode_{mode}")].as_bool() == Some(true);
    let mut found = modes.iter().filter(|(mode, _)| set(mode)).map(|(_, pooling)| *pooling);
    let first = found.next();
    if found.next().is_some() {
        let message = "several poolings at once are not read; choose one with FolderSettings::pooling";
        return Err(Error::new(ErrorKind::Unsupported, message));
    }
    Ok(first)
}

impl SentenceEncoder {
    /// Creates an encoder from a folder with `config.json`, `tokenizer.json` and weights as `*.safetensors`. If the folder
    /// lists its parts in `modules.json`, the pooling and the projections are read too.
    ///
    /// # Errors
    /// If a file, a key or a tensor is missing or of an unknown kind. The message names it.
    pub fn from_folder(path: impl AsRef<Path>, settings: &FolderSettings) -> Result<Self> {
        let path = path.as_ref();
        let place = |error: Error| if error.place().is_none() { error.at(path.display()) } else { error };
        Self::open(path, settings).map_err(place)
    }

    fn open(path: &Path, settings: &FolderSettings) -> Result<Self> {
        let folder = Folder { path };
        let Parts { shape, first_position, tokeniser, tensors, mut hashes, .. } = folder.parts()?;
        let network = Network::from_trained(&tensors, shape, first_position, settings.precision)?;

        let mut said_pooling = None;
        let mut projections = Vec::new();
        for module in folder.json_if_there("modules.json")?.as_array().into_iter().flatten() {
            let kind = module["type"].as_str().unwrap_or_default().rsplit('.').next().unwrap_or_default();
            let at = module["path"].as_str().unwrap_or_default();
            match kind {
                "Transformer" | "Normalize" => {}
                "Pooling" => {
                    said_pooling = pooling(&folder.json(&format!("{at}/config.json"))?)?;
                }
                "Dense" => projections.push(projection(&folder, at, settings.precision, &mut hashes)?),
                other => {
                    let message =
                        format!("a module of the kind “{other}” is not read; Pooling, Dense and Normalize are");
                    return Err(Error::new(ErrorKind::Unsupported, message).at("modules.json"));
                }
            }
        }
        let said = own_settings(&folder)?;
        let pooling = settings.pooling.or(said_pooling).unwrap_or(Pooling::Mean);
        let (before, after) = tokeniser.ends();
        let least = before.len() + after.len() + 1;
        let positions = network.shape().positions;
        let longest = settings.max_tokens.or(said.longest).unwrap_or(positions);
        if longest < least || longest > positions {
            let message =
                format!("texts of up to {longest} tokens are not possible; this model reads {least} to {positions}");
            return Err(Error::new(ErrorKind::Configuration, message));
        }
        let prefixes = [
            settings.query_prefix.clone().or(said.query_prefix).unwrap_or_default(),
            settings.passage_prefix.clone().or(said.passage_prefix).unwrap_or_default(),
        ];
        let model =
            path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned());
        let dimensions = projections.last().map_or(network.shape().hidden, |last| last.matrix.outputs());
        let how = format!("{pooling:?} {:?} {prefixes:?} {longest}", settings.precision);
        let fingerprint = Fingerprint::of(hashes.into_iter().chain([VERSION.to_owned(), how]));
        let rounded = if settings.precision == Precision::Float32 { ", 32 bits" } else { "" };
        Ok(Self {
            name: format!("{model}, {dimensions} dimensions{rounded}"),
            tokeniser,
            network,
            pooling,
            projections,
            prefixes,
            longest,
            languages: Vec::new(),
            token_dimensions: kept_of_token(settings.token_dimensions, dimensions)?,
            fingerprint,
            kernel: Kernel::best(),
            rooms: Rooms::default(),
        })
    }
}

fn projection(folder: &Folder<'_>, at: &str, precision: Precision, hashes: &mut Vec<String>) -> Result<Projection> {
    let file = format!("{at}/config.json");
    let json = folder.json(&file)?;
    hashes.push(json.to_string());
    let (inputs, outputs) = (number(&json, &file, "in_features")?, number(&json, &file, "out_features")?);
    let function = json["activation_function"].as_str().unwrap_or_default().rsplit('.').next().unwrap_or_default();
    let tanh = match function {
        "Tanh" => true,
        "Identity" | "" => false,
        other => {
            let message = format!("activation_function “{other}” is not known; Tanh and Identity are");
            return Err(Error::new(ErrorKind::Unsupported, message).at(file));
        }
    };
    let tensors = folder.tensors(at, hashes)?;
    let weights = tensors.floats("linear.weight", &[outputs, inputs]).map_err(|error| error.at(at))?;
    let bias = match tensors.has("linear.bias") {
        true => tensors.floats("linear.bias", &[outputs]).map_err(|error| error.at(at))?,
        false => vec![0.0; outputs],
    };
    Ok(Projection { matrix: new_matrix(&weights, &bias, precision), tanh })
}

/// The settings of a folder that say how the model was trained.
#[derive(Default)]
struct Said {
    longest: Option<usize>,
    query_prefix: Option<String>,
    passage_prefix: Option<String>,
}

/// Looks for the length and the prefixes in the smaller settings files, whose names vary.
fn own_settings(folder: &Folder<'_>) -> Result<Said> {
    let mut said = Said::default();
    for file in folder.files("", "json")? {
        if matches!(file.as_str(), "config.json" | "tokenizer.json" | "tokenizer_config.json" | "modules.json") {
            continue;
        }
        // A file without such settings is ignored.
        let Ok(json) = folder.json(&file) else { continue };
        if let Some(length) = json["max_seq_length"].as_u64() {
            said.longest = usize::try_from(length).ok();
        }
        let prompt = |name: &str| json["prompts"][name].as_str().map(str::to_owned);
        said.query_prefix = said.query_prefix.or(prompt("query"));
        said.passage_prefix = said.passage_prefix.or(prompt("document")).or(prompt("passage"));
    }
    Ok(said)
}
