//! Data of the embedded English encoder: layers 0 to 2. See `NOTICE` for where it is from, and the example `pack` of
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
    ("layer-0.safetensors", aligned!("../data/layer-0.safetensors")),
    ("layer-1.safetensors", aligned!("../data/layer-1.safetensors")),
    ("layer-2.safetensors", aligned!("../data/layer-2.safetensors")),
];
