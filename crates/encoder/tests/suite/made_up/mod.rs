//! Models with made-up weights, as they lie in a folder.
#![allow(dead_code)] // each test file uses its own part

use std::fs;
use std::path::Path;

use logothete_core::Result;
use logothete_encoder::{FolderSettings, SentenceEncoder};
use serde_json::{Value, json};

/// A small model with made-up weights, and words of one letter.
pub struct Model {
    pub config: Value,
    pub tokeniser: Value,
    pub tensors: Vec<(String, Vec<usize>)>,
    pub dtype: &'static str,
    /// Rows of the table of positions before that of the first.
    pub before: usize,
}

/// How large a model is.
#[derive(Clone, Copy, Debug)]
pub struct Sizes {
    pub hidden: usize,
    pub heads: usize,
    pub layers: usize,
    pub wide: usize,
}

impl Model {
    /// Two layers, two heads of 16.
    pub fn new() -> Self {
        Self::of(Sizes { hidden: 32, heads: 2, layers: 2, wide: 48 })
    }

    pub fn of(Sizes { hidden, heads, layers, wide }: Sizes) -> Self {
        let pieces = ["[PAD]", "[UNK]", "[CLS]", "[SEP]", "a", "b", "c", "##a", "##b", "##c"];
        let vocabulary: serde_json::Map<String, Value> =
            pieces.iter().enumerate().map(|(token, piece)| ((*piece).to_owned(), json!(token))).collect();
        let mut tensors = vec![
            ("embeddings.word_embeddings.weight".to_owned(), vec![10, hidden]),
            ("embeddings.position_embeddings.weight".to_owned(), vec![24, hidden]),
            ("embeddings.token_type_embeddings.weight".to_owned(), vec![2, hidden]),
            ("embeddings.LayerNorm.weight".to_owned(), vec![hidden]),
            ("embeddings.LayerNorm.bias".to_owned(), vec![hidden]),
        ];
        for layer in 0..layers {
            let mut linear = |name: &str, outputs: usize, inputs: usize| {
                let name = format!("encoder.layer.{layer}.{name}");
                tensors.push((format!("{name}.weight"), vec![outputs, inputs]));
                tensors.push((format!("{name}.bias"), vec![outputs]));
            };
            for part in ["query", "key", "value"] {
                linear(&format!("attention.self.{part}"), hidden, hidden);
            }
            linear("attention.output.dense", hidden, hidden);
            linear("intermediate.dense", wide, hidden);
            linear("output.dense", hidden, wide);
            for norm in ["attention.output", "output"] {
                for part in ["weight", "bias"] {
                    tensors.push((format!("encoder.layer.{layer}.{norm}.LayerNorm.{part}"), vec![hidden]));
                }
            }
        }
        Self {
            config: json!({
                "model_type": "bert", "hidden_size": hidden, "num_hidden_layers": layers, "num_attention_heads": heads,
                "intermediate_size": wide, "vocab_size": 10, "max_position_embeddings": 24, "hidden_act": "gelu",
            }),
            tokeniser: json!({
                "added_tokens": [{ "id": 3, "content": "[SEP]" }],
                "normalizer": { "type": "BertNormalizer" },
                "pre_tokenizer": { "type": "BertPreTokenizer" },
                "post_processor": { "type": "BertProcessing", "cls": ["[CLS]", 2], "sep": ["[SEP]", 3] },
                "model": { "type": "WordPiece", "unk_token": "[UNK]", "vocab": vocabulary },
            }),
            tensors,
            dtype: "F32",
            before: 0,
        }
    }

    /// Weights that look random, and are the same each time and for each type of number.
    pub fn weights(name: &str, count: usize) -> Vec<f32> {
        let mut state = name.bytes().fold(17_u32, |state, byte| state.wrapping_mul(31).wrapping_add(u32::from(byte)));
        let mut next = || {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            // Few enough bits that each type of number holds it.
            ((state >> 24) as f32 - 127.5) / 256.0
        };
        let base = if name.ends_with("LayerNorm.weight") { 1.0 } else { 0.0 };
        (0..count).map(|_| ((base + next() * 0.5) * 64.0).round() / 64.0).collect()
    }

    pub fn file(&self) -> Vec<u8> {
        let (mut header, mut data) = (serde_json::Map::new(), Vec::new());
        for (name, shape) in &self.tensors {
            let from = data.len();
            let before = if name.contains("position") { self.before * shape[1] } else { 0 };
            let weights = Self::weights(name, shape.iter().product::<usize>() - before);
            for weight in std::iter::repeat_n(0.25, before).chain(weights) {
                match self.dtype {
                    "BF16" => data.extend(((weight.to_bits() >> 16) as u16).to_le_bytes()),
                    "F16" => data.extend(half(weight).to_le_bytes()),
                    _ => data.extend(weight.to_le_bytes()),
                }
            }
            header.insert(
                name.clone(),
                json!({ "dtype": self.dtype, "shape": shape, "data_offsets": [from, data.len()] }),
            );
        }
        let header = Value::Object(header).to_string();
        [(header.len() as u64).to_le_bytes().as_slice(), header.as_bytes(), &data].concat()
    }

    pub fn write(&self, folder: &Path) {
        fs::write(folder.join("config.json"), self.config.to_string()).expect("written");
        fs::write(folder.join("tokenizer.json"), self.tokeniser.to_string()).expect("written");
        fs::write(folder.join("model.safetensors"), self.file()).expect("written");
    }

    pub fn open(&self, settings: &FolderSettings) -> Result<SentenceEncoder> {
        let folder = tempfile::tempdir().expect("a folder");
        self.write(folder.path());
        SentenceEncoder::from_folder(folder.path(), settings)
    }
}

/// A number of few bits as binary16.
fn half(value: f32) -> u16 {
    if value == 0.0 {
        return 0;
    }
    let bits = value.to_bits();
    ((bits >> 16 & 0x8000) | ((((bits >> 23) & 255) - 112) << 10) | (bits >> 13 & 1023)) as u16
}
