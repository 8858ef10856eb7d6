//! Data of the embedded English encoder: the tokens, words and positions. See `NOTICE` for where it is from, and the example `pack` of
//! `logothete-encoder` for how it was made.

/// A file that begins at a multiple of 64 bytes, so that its tensors do too.
#[repr(C, align(64))]
struct Aligned<T: ?Sized>(T);

macro_rules! aligned {
    ($file:literal) => {{
        static FILE: &Aligned<[u8]> = &Aligned(*include_bytes!($file));
        &FILE.0
    }};
}

/// The files by name.
pub static FILES: &[(&str, &[u8])] = &[
    ("encoder.json", aligned!("../data/encoder.json")),
    ("vocabulary.safetensors", aligned!("../data/vocabulary.safetensors")),
    ("words-0.safetensors", aligned!("../data/words-0.safetensors")),
    ("words-1.safetensors", aligned!("../data/words-1.safetensors")),
    ("positions.safetensors", aligned!("../data/positions.safetensors")),
];
