//! Searches an index of token vectors.

use std::ops::Range;

use super::codes::{Allotment, ByteLevels, Quantiser};
use super::{FACTOR_UNIT, FRONT};
use crate::error::{Error, ErrorKind, Result};
use crate::rerank::normalised;
use crate::segment::{self, HEADER, Hit, Kind, RowSet, TopK, read_varint, u32_at};
use crate::vector::Vectors;
use crate::vector::codes::{QueryCodes, stride};
use crate::vector::kernel::Kernel;
use crate::vector::means::{Means, product};

/// The centres that are looked up for each token of a query: one in so many, and the bounds of their number.
const PROBED: (usize, std::ops::RangeInclusive<usize>) = (24, 16..=64);
/// The number of levels of all numbers of bits.
const LEVELS: usize = 16 + 4 + 2;
/// The number of rows that are scored by all their tokens for each wanted row, and the lowest number in all.
const IN_FULL: (usize, usize) = (4, 256);

/// An index of token vectors, read in place.
pub struct TokenIndex<B> {
    bytes: B,
    header: segment::Header,
    tokens: usize,
    centres: Means,
    quantiser: Quantiser,
    byte_levels: ByteLevels,
    /// The starts of the parts of the segment after the levels, and the end of the last.
    starts: [usize; 8],
}

impl<B> std::fmt::Debug for TokenIndex<B> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("TokenIndex")
            .field("rows", &self.header.rows)
            .field("tokens", &self.tokens)
            .finish_non_exhaustive()
    }
}

/// A query that is ready to be compared with rows.
struct PreparedTokens {
    /// For each token its products with the centres.
    products: Vec<Vec<f32>>,
    codes: Vec<QueryCodes>,
    weights: Vec<f32>,
}

/// A token of a row, besides its rest.
struct Placed {
    centre: usize,
    /// What its products are multiplied by.
    factor: f32,
    /// What the products with its rest are multiplied by first.
    scale: f32,
}

/// Room for the tokens of a row, which is used again for the next.
#[derive(Default)]
struct Decoded {
    /// The rests of the tokens, in bytes, each as long as the codes of a token of a query.
    rests: Vec<u8>,
    placed: Vec<Placed>,
    sums: Vec<i32>,
}

impl<B: AsRef<[u8]>> TokenIndex<B> {
    /// Opens a segment. Reads its header and its centres.
    ///
    /// # Errors
    /// If the bytes are not a whole index of a version that is known.
    pub fn open(bytes: B) -> Result<Self> {
        let header = segment::open(bytes.as_ref(), Kind::Tokens)?;
        let damaged = || {
            let message = "this index segment is damaged: its tokens do not fill it; rebuild the corpus";
            Error::new(ErrorKind::Corpus, message)
        };
        let all = bytes.as_ref();
        let number = |at: usize| u32_at(all, at).map(|number| number as usize);
        let (centres, tokens) = (number(HEADER).ok_or_else(damaged)?, number(HEADER + 4).ok_or_else(damaged)?);
        let (rows, dimensions, bits) = (header.rows as usize, header.width as usize, header.own);
        if dimensions == 0 || ![1, 2, 4].contains(&bits) || centres == 0 {
            return Err(damaged());
        }
        let centres_at = HEADER + FRONT;
        let directions_at = dimensions.checked_mul(4 * centres).and_then(|length| centres_at.checked_add(length));
        let directions_at = directions_at.ok_or_else(damaged)?;
        // Version 1 had no directions, no scales, and the same bits for each dimension.
        let scaled = header.version >= 2;
        let flag = |at: usize| all.get(HEADER + at).copied() == Some(1);
        let turned = if scaled && flag(8) { dimensions.checked_mul(4 * dimensions).ok_or_else(damaged)? } else { 0 };
        let allotment = match scaled {
            true => {
                let count = |at: usize| number(HEADER + 12 + 4 * at).ok_or_else(damaged);
                Allotment([count(0)?, count(1)?, count(2)?])
            }
            false => Allotment::even(dimensions, bits),
        };
        if allotment.0.iter().try_fold(0_usize, |sum, count| sum.checked_add(*count)).is_none_or(|sum| sum > dimensions)
        {
            return Err(damaged());
        }
        let scales_at = directions_at.checked_add(turned).ok_or_else(damaged)?;
        let levels_at = scales_at + if scaled { 4 * dimensions } else { 0 };
        let ends_at = levels_at + if scaled { 4 * LEVELS } else { 4 << bits };
        let lists_at = ends_at + 4 * rows;
        let listed = number(lists_at + 4 * centres - 4).ok_or_else(damaged)?;
        let (short, of_scales) = (2 * tokens, if scaled { 2 * tokens } else { 0 });
        let lengths = [4 * rows, 4 * centres, listed, short, short, of_scales, tokens * allotment.bytes()];
        let (mut starts, mut end) = ([0; 8], ends_at);
        for (start, length) in starts.iter_mut().zip(lengths) {
            *start = end;
            end = end.checked_add(length).ok_or_else(damaged)?;
        }
        starts[7] = end;
        let last = if rows == 0 { Some(0) } else { number(starts[1] - 4) };
        if end != all.len() || last != Some(tokens) {
            return Err(damaged());
        }
        let numbers = |range: Range<usize>| -> Vec<f32> {
            all[range].as_chunks().0.iter().map(|&bytes| f32::from_le_bytes(bytes)).collect()
        };
        let means = Means::new(dimensions, numbers(centres_at..directions_at));
        let levels = numbers(levels_at..ends_at);
        let levels = match scaled {
            true => [levels[..16].to_vec(), levels[16..20].to_vec(), levels[20..].to_vec()],
            false => [4, 2, 1].map(|own| if own == bits { levels.clone() } else { Vec::new() }),
        };
        let scales = if scaled { numbers(scales_at..levels_at) } else { vec![1.0; dimensions] };
        let quantiser =
            Quantiser { dimensions, directions: numbers(directions_at..scales_at), scales, allotment, levels };
        let Quantiser { directions, scales, levels, .. } = &quantiser;
        if means
            .numbers
            .iter()
            .chain(directions)
            .chain(scales)
            .chain(levels.iter().flatten())
            .any(|number| !number.is_finite())
        {
            return Err(damaged());
        }
        let byte_levels = ByteLevels::new(&quantiser);
        Ok(Self { tokens, centres: means, quantiser, byte_levels, starts, header, bytes })
    }

    /// Reads everything and compares the checksum.
    ///
    /// # Errors
    /// If a byte has changed.
    pub fn verify(&self) -> Result<()> {
        self.header.verify(self.bytes.as_ref())
    }

    /// Returns the number of rows.
    pub fn rows(&self) -> u32 {
        self.header.rows
    }

    /// Returns the number of tokens of all rows.
    pub fn tokens(&self) -> usize {
        self.tokens
    }

    /// Returns the bits that are kept of each number besides the centre.
    pub fn bits(&self) -> u32 {
        self.header.own
    }

    /// Returns the number of dimensions of its vectors.
    pub fn dimensions(&self) -> usize {
        self.header.width as usize
    }

    /// Returns the `count` live rows with the highest scores, best first; ties by row. `None` means that all rows are live.
    ///
    /// The score is the sum over the tokens of the query of the highest cosine to a token of the row, each times its weight: 1, or that of
    /// `weights`. Only rows that have a token near one of the query are looked at. Costs a product of each token of the query with each centre, and
    /// a table look-up for each token and byte of the rows that are scored in full.
    ///
    /// Returns nothing if the vectors have other dimensions.
    pub fn search(&self, query: &Vectors, weights: Option<&[f32]>, live: Option<&RowSet>, count: usize) -> Vec<Hit> {
        if count == 0 || query.is_empty() || query.dimensions() != self.dimensions() {
            return Vec::new();
        }
        let query = self.prepare(query, weights);
        let mut near = TopK::new(count.saturating_mul(IN_FULL.0).max(IN_FULL.1));
        for (row, score) in self.candidates(&query, live) {
            near.offer(Hit { score, row });
        }
        let (mut best, mut room) = (TopK::new(count), Decoded::default());
        for Hit { row, .. } in near.into_sorted() {
            best.offer(Hit { score: self.full(&query, row, &mut room), row });
        }
        best.into_sorted()
    }

    /// Returns the score of each of some rows, as [`search`](Self::search) has it; 0 for a row that is not there.
    pub fn scores(&self, query: &Vectors, weights: Option<&[f32]>, rows: &[u32]) -> Vec<f32> {
        if query.is_empty() || query.dimensions() != self.dimensions() {
            return vec![0.0; rows.len()];
        }
        let (query, mut room) = (self.prepare(query, weights), Decoded::default());
        rows.iter().map(|row| self.full(&query, *row, &mut room)).collect()
    }

    fn prepare(&self, query: &Vectors, weights: Option<&[f32]>) -> PreparedTokens {
        let tokens: Vec<Vec<f32>> = query.iter().map(|token| normalised(token.to_vec())).collect();
        let weight = |at: usize| weights.map_or(1.0, |weights| weights.get(at).copied().unwrap_or(0.0));
        let centres = 0..self.centres.count();
        // The directions and scales are part of the query, so that the codes of a row need none.
        let scaled = |token: &[f32]| -> Vec<f32> {
            let turned = self.quantiser.turned(token);
            turned.iter().zip(&self.quantiser.scales).map(|(number, scale)| number * scale).collect()
        };
        let products = |token: &Vec<f32>| centres.clone().map(|at| product(self.centres.centre(at), token)).collect();
        PreparedTokens {
            products: tokens.iter().map(products).collect(),
            codes: tokens.iter().map(|token| QueryCodes::new(&scaled(token))).collect(),
            weights: (0..tokens.len()).map(weight).collect(),
        }
    }

    /// Returns the live rows that have a token of a centre near a token of the query, with the sum of the products with these centres.
    fn candidates(&self, query: &PreparedTokens, live: Option<&RowSet>) -> Vec<(u32, f32)> {
        let rows = self.rows() as usize;
        let (mut sums, mut found) = (vec![0.0_f32; rows], vec![false; rows]);
        // The highest product of the present token with a centre of each row, and the token that it is of.
        let mut highest: Vec<(u32, f32)> = vec![(0, 0.0); rows];
        let probed = (self.centres.count() / PROBED.0).clamp(*PROBED.1.start(), *PROBED.1.end());
        for ((number, products), weight) in (1_u32..).zip(&query.products).zip(&query.weights) {
            let mut near = TopK::new(probed);
            (0_u32..).zip(products).for_each(|(row, &score)| near.offer(Hit { score, row }));
            // The nearest come first, so the first product with a row is the highest.
            for Hit { score, row: centre } in near.into_sorted() {
                for row in self.rows_of(centre as usize) {
                    let Some(high) = highest.get_mut(row as usize).filter(|high| high.0 != number) else { continue };
                    *high = (number, score);
                    sums[row as usize] += weight * score;
                    found[row as usize] = true;
                }
            }
        }
        (0_u32..)
            .zip(found.iter().zip(sums))
            .filter(|(row, (found, _))| **found && live.is_none_or(|live| live.contains(*row)))
            .map(|(row, (_, sum))| (row, sum))
            .collect()
    }

    /// Returns the score of a row by its tokens.
    fn full(&self, query: &PreparedTokens, row: u32, room: &mut Decoded) -> f32 {
        self.decode(row, room);
        let kernel = Kernel::best();
        let mut sum = 0.0;
        for ((products, codes), weight) in query.products.iter().zip(&query.codes).zip(&query.weights) {
            kernel.products(&codes.codes, &room.rests, &mut room.sums);
            let scale = codes.scale() * self.byte_levels.scale;
            let cosines = room.placed.iter().zip(&room.sums).map(|(token, rest)| {
                let centre = products.get(token.centre).copied().unwrap_or(0.0);
                (centre + token.scale * scale * (rest - codes.excess()) as f32) * token.factor
            });
            let highest = cosines.fold(f32::NEG_INFINITY, f32::max);
            if highest.is_finite() {
                sum += highest * weight;
            }
        }
        sum
    }

    /// Reads the tokens of a row.
    fn decode(&self, row: u32, room: &mut Decoded) {
        let bytes = self.bytes.as_ref();
        let (width, stride) = (self.quantiser.allotment.bytes(), stride(self.dimensions()));
        let tokens = self.tokens_of(row);
        room.placed.clear();
        room.placed.extend(tokens.clone().map(|at| self.placed(at)));
        room.rests.resize(tokens.len() * stride, 0);
        room.sums.resize(tokens.len(), 0);
        for (at, rest) in tokens.zip(room.rests.chunks_exact_mut(stride)) {
            let start = self.starts[6] + at * width;
            self.byte_levels.decode(bytes.get(start..start + width).unwrap_or_default(), rest);
        }
    }

    /// Returns what there is of a token besides its code.
    fn placed(&self, token: usize) -> Placed {
        let short = |part: usize| {
            let rest = self.bytes.as_ref().get(self.starts[part] + 2 * token..);
            rest.and_then(|rest| rest.first_chunk()).map_or(0, |two| u16::from_le_bytes(*two))
        };
        let in_units = |part: usize| f32::from(short(part)) / FACTOR_UNIT;
        let scale = if self.header.version >= 2 { in_units(5) } else { 1.0 };
        Placed { centre: usize::from(short(3)), factor: in_units(4), scale }
    }

    /// Returns the tokens of a row.
    fn tokens_of(&self, row: u32) -> Range<usize> {
        if row >= self.rows() {
            return 0..0;
        }
        let end = |row: u32| u32_at(self.bytes.as_ref(), self.starts[0] + 4 * row as usize).unwrap_or(0) as usize;
        let end = |row: u32| end(row).min(self.tokens);
        row.checked_sub(1).map_or(0, end)..end(row)
    }

    /// Returns the rows that have a token of a centre.
    fn rows_of(&self, centre: usize) -> impl Iterator<Item = u32> + '_ {
        let bytes = self.bytes.as_ref();
        let listed = &bytes[self.starts[2]..self.starts[3]];
        let end = |at: usize| (u32_at(bytes, self.starts[1] + 4 * at).unwrap_or(0) as usize).min(listed.len());
        let mut list = listed.get(centre.checked_sub(1).map_or(0, end)..end(centre)).unwrap_or_default();
        let mut row = 0_u32;
        std::iter::from_fn(move || {
            row = row.checked_add(read_varint(&mut list)?)?;
            Some(row)
        })
    }

    /// Returns the vectors of the tokens of a row as they are decoded, of length 1.
    pub fn decoded(&self, row: u32) -> Vectors {
        let bytes = self.bytes.as_ref();
        let width = self.quantiser.allotment.bytes();
        let mut vectors = Vectors::new(self.dimensions());
        for at in self.tokens_of(row) {
            let code = bytes.get(self.starts[6] + at * width..self.starts[6] + (at + 1) * width).unwrap_or_default();
            let Placed { centre, scale, .. } = self.placed(at);
            if centre < self.centres.count() {
                let rest = self.quantiser.turned_back(&self.quantiser.decode(code, scale));
                let whole = self.centres.centre(centre).iter().zip(rest).map(|(centre, rest)| centre + rest).collect();
                // Centres and levels are finite, so the sum is.
                let _ = vectors.push(&normalised(whole));
            }
        }
        vectors
    }
}

/// Returns the score of a passage for a query by their token vectors: the sum, over the tokens of the query, of the highest cosine to a token of the
/// passage. 0 if one has no tokens.
///
/// Costs a product of each token with each.
pub fn max_similarity(query: &Vectors, passage: &Vectors) -> f32 {
    let passage: Vec<Vec<f32>> = passage.iter().map(|token| normalised(token.to_vec())).collect();
    let highest = |token: &[f32]| {
        let token = normalised(token.to_vec());
        passage.iter().map(|other| product(&token, other)).fold(f32::NEG_INFINITY, f32::max)
    };
    query.iter().map(highest).filter(|highest| highest.is_finite()).sum()
}
