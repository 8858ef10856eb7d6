//! Packing a model into files that are used as they are.

use std::path::Path;

use logothete_core::vector::Encoder;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use serde::{Deserialize, Serialize};

use super::{FolderSettings, Pooling, SentenceEncoder, VERSION};
use crate::bert::Shape;
use crate::tokenise::{Tokeniser, WordPieceSettings};
use crate::weights::TensorWriter;

/// The number of words of the table in one file.
const WORDS_IN_A_FILE: usize = 16_384;

/// The file `encoder.json`, which describes a packed model beside its tensors.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Packed {
    /// The name.
    pub name: String,
    /// The languages that it knows.
    pub languages: Vec<String>,
    /// The sizes of the network.
    pub shape: Shape,
    /// How tokens become one vector.
    pub pooling: Pooling,
    /// The prefixes of queries and of passages.
    pub prefixes: [String; 2],
    /// The most tokens of a text.
    pub longest: usize,
    /// As many of the first numbers of a token's vector are kept; `None` means all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token_dimensions: Option<usize>,
    /// The tokeniser; its vocabulary is in the tensor `vocabulary`, a piece a line.
    pub tokeniser: WordPieceSettings,
    /// The hash of all other files.
    pub weights: Fingerprint,
}

impl Packed {
    pub(super) fn fingerprint(&self) -> Fingerprint {
        let how = format!("{:?} {:?} {} {:?}", self.pooling, self.prefixes, self.longest, self.tokeniser);
        Fingerprint::of([self.weights.as_str(), VERSION, &how])
    }
}

/// Packs the model in a folder and passes each file to `write`. Returns the fingerprint of the weights. The same folder always
/// gives the same files.
///
/// The word table is rounded to 4 bits in groups of 32, the layers to 8 bits with a scale for each output. Of the vector of a token, the first
/// `token_dimensions` numbers are kept; `None` means all.
///
/// # Errors
/// As [`SentenceEncoder::from_folder`], if the model has parts that cannot be packed, or as the function.
pub fn pack(
    folder: &Path,
    name: &str,
    languages: &[&str],
    token_dimensions: Option<usize>,
    mut write: impl FnMut(&str, &[u8]) -> Result<()>,
) -> Result<Fingerprint> {
    let unfit = |what: &str| Error::new(ErrorKind::Unsupported, format!("{what}; it cannot be packed"));
    let settings = FolderSettings { token_dimensions, ..FolderSettings::default() };
    let encoder = SentenceEncoder::from_folder(folder, &settings)?;
    if !encoder.projections.is_empty() {
        return Err(unfit("the model has a layer behind its network"));
    }
    #[cfg_attr(not(feature = "tokenizers"), allow(clippy::infallible_destructuring_match))]
    let pieces = match &encoder.tokeniser {
        Tokeniser::WordPiece(pieces) => pieces,
        #[cfg(feature = "tokenizers")]
        Tokeniser::Other(_) => return Err(unfit("the model's tokeniser is not one of word pieces")),
    };
    let vocabulary = pieces.vocabulary().to_text();
    let mut file = TensorWriter::default();
    file.add("vocabulary", &[vocabulary.len()], vocabulary.as_bytes());
    let mut hashes = Vec::new();
    let mut write_and_hash = |file: &str, bytes: &[u8]| {
        hashes.push(blake3::hash(bytes).to_hex().to_string());
        write(file, bytes)
    };
    write_and_hash("vocabulary.safetensors", &file.finish()?)?;
    encoder.network.write(WORDS_IN_A_FILE, encoder.longest, write_and_hash)?;
    let shape =
        Shape { positions: encoder.longest.min(encoder.network.shape().positions), ..encoder.network.shape().clone() };
    let packed = Packed {
        name: format!("{name}, {} dimensions", encoder.dimensions()),
        languages: languages.iter().map(|&language| language.to_owned()).collect(),
        shape,
        pooling: encoder.pooling,
        prefixes: encoder.prefixes.clone(),
        longest: encoder.longest,
        token_dimensions,
        tokeniser: pieces.settings().clone(),
        weights: Fingerprint::of(hashes),
    };
    let json = serde_json::to_string_pretty(&packed)
        .map_err(|e| Error::new(ErrorKind::System, "encoder.json was not written").because(e))?;
    write("encoder.json", format!("{json}\n").as_bytes())?;
    Ok(packed.weights)
}
