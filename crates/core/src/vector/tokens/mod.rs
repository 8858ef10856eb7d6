//! Late interaction: each row has a vector for each of its tokens, and is scored by what each token of the query finds in it.
//!
//! The score is the sum, over the tokens of the query, of the highest cosine to a token of the row (Khattab and Zaharia, 2020). The index keeps
//! for each token the number of its nearest centre, and what is left in 1, 2 or 4 bits a dimension on average. What is left varies more in some
//! directions than in others: it is looked at in its principal directions, of which the first have more bits and the last none. It differs in size from
//! direction to direction and from token to token, so each has a scale, and the codes stand for what remains when both are divided out. A search looks up the
//! centres near the tokens of the query, adds up the products with these centres for the rows that have them, and scores the best rows by all
//! their tokens (Santhanam, Khattab, Saad-Falcon, Potts and Zaharia, 2022).
//!
//! The body of a segment follows the header, whose own number is the number of bits; all numbers are little-endian. The number of centres
//! (`u32`), the number of tokens (`u32`), whether there are directions (one byte, and three zeros), how many directions have four, two and one bit
//! (`u32` each), and 40 zero bytes; the centres, `dimensions` numbers each (`f32`); the directions, `dimensions` numbers each (`f32`); the scale of each
//! direction (`f32`); the levels that codes of four, two and one bit stand for (`f32`); the end of the tokens of each row (`u32`); the end of the bytes of the
//! rows of each centre (`u32`); the rows of each centre, ascending, each as its distance from the one before, in groups of seven bits; the centre
//! of each token (`u16`); what its products are multiplied by, in 16,384ths (`u16`); its scale, in 16,384ths (`u16`); the codes of each token, the
//! first dimension in the lowest bits. Version 1 had no directions
//! and no scales, and only the levels of its bits.

mod codes;
mod principal;
mod search;
mod write;

pub use search::{TokenIndex, max_similarity};
pub use write::TokenIndexWriter;

/// The bytes before the centres.
const FRONT: usize = 64;
/// The unit of what the products of a token are multiplied by, and of its scale.
const FACTOR_UNIT: f32 = 16_384.0;
/// The most centres: their numbers have two bytes.
const MAX_CENTRES: usize = 65_535;

/// Returns the bytes that an index keeps of a token, besides the centres and the lists of rows; 0 for no bits.
pub fn token_bytes(dimensions: usize, bits: u32) -> u64 {
    if bits == 0 { 0 } else { code_bytes(dimensions, bits) as u64 + 6 }
}

/// Returns the bytes of the codes of a token.
fn code_bytes(dimensions: usize, bits: u32) -> usize {
    (dimensions * bits as usize).div_ceil(8)
}
