//! Data of the network that reads a claim and its source together: layers 2 to 5 and its head. The words, the positions and the first two layers are those of
//! the embedded English encoder. See `NOTICE` and `MODEL.md` for where it is from, and the example `pack_claims` of `logothete-encoder` for how it was packed.

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
    ("claims-2.safetensors", aligned!("../data/claims-2.safetensors")),
    ("claims-3.safetensors", aligned!("../data/claims-3.safetensors")),
    ("claims-4.safetensors", aligned!("../data/claims-4.safetensors")),
    ("claims-5.safetensors", aligned!("../data/claims-5.safetensors")),
    ("claims-head.safetensors", aligned!("../data/claims-head.safetensors")),
];
