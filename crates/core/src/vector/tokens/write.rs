//! Writes an index of token vectors.

use std::io::Write;

use rayon::prelude::*;

use super::{FACTOR_UNIT, FRONT, MAX_CENTRES, TokenIndex, codes};
use crate::error::{Error, ErrorKind, Result};
use crate::rerank::normalised;
use crate::segment::{BodyWriter, Kind, SegmentHeader, whole_segment, write_varint};
use crate::vector::Vectors;
use crate::vector::means::{CentreCodes, Means, product};

/// The number of sample tokens for each centre, and the highest number in all.
const SAMPLE: (usize, usize) = (24, 120_000);
/// The number of numbers that the levels are made from.
const LEVEL_SAMPLE: usize = 200_000;

/// Tokens of length 1, row by row, a byte a number.
#[derive(Debug)]
struct Tokens {
    dimensions: usize,
    numbers: Vec<i8>,
    /// The value of a step of each token.
    steps: Vec<f32>,
}

impl Tokens {
    fn push(&mut self, token: &[f32]) {
        let largest = token.iter().fold(0.0_f32, |largest, number| largest.max(number.abs()));
        let step = largest.max(f32::MIN_POSITIVE) / 127.0;
        self.numbers.extend(token.iter().map(|number| (number / step).round() as i8));
        self.steps.push(step);
    }

    fn count(&self) -> usize {
        self.steps.len()
    }

    /// Returns a token, of length 1 again.
    fn token(&self, at: usize) -> Vec<f32> {
        let numbers = &self.numbers[at * self.dimensions..][..self.dimensions];
        normalised(numbers.iter().map(|number| f32::from(*number) * self.steps[at]).collect())
    }
}

/// Collects the token vectors of rows, and writes them as a segment.
///
/// Holds a byte a number until it is written: far more than the bits that are kept of it then.
#[derive(Debug)]
pub struct TokenIndexWriter {
    dimensions: usize,
    bits: u32,
    tokens: Tokens,
    /// The end of the tokens of each row.
    ends: Vec<u32>,
}

impl TokenIndexWriter {
    /// Creates an empty writer for vectors of some dimensions, which keeps 1, 2 or 4 bits of each number besides the centre. Two bits are
    /// `dimensions` / 4 + 6 bytes a token, and nearly as exact as four.
    ///
    /// # Errors
    /// If there are no dimensions, or another number of bits.
    pub fn new(dimensions: usize, bits: u32) -> Result<Self> {
        if dimensions == 0 || ![1, 2, 4].contains(&bits) {
            let message =
                format!("token vectors of {dimensions} dimensions cannot be kept in {bits} bits; use 1, 2 or 4");
            return Err(Error::new(ErrorKind::InvalidRequest, message));
        }
        let tokens = Tokens { dimensions, numbers: Vec::new(), steps: Vec::new() };
        Ok(Self { dimensions, bits, tokens, ends: Vec::new() })
    }

    /// Returns the number of rows.
    pub fn rows(&self) -> u32 {
        self.ends.len() as u32
    }

    /// Adds the tokens of the next row. Tokens of length 0 say nothing and are left out.
    ///
    /// # Errors
    /// If they have other dimensions, or there are more than four thousand million tokens.
    pub fn push(&mut self, tokens: &Vectors) -> Result<()> {
        if !tokens.is_empty() && tokens.dimensions() != self.dimensions {
            let message = format!("a token vector has {} components and not {}", tokens.dimensions(), self.dimensions);
            return Err(Error::new(ErrorKind::Mismatch, message));
        }
        for token in tokens.iter().filter(|token| token.iter().any(|number| *number != 0.0)) {
            self.tokens.push(&normalised(token.to_vec()));
        }
        let count = u32::try_from(self.tokens.count())
            .map_err(|_| Error::new(ErrorKind::Limit, "a segment holds at most 4,294,967,295 tokens"))?;
        self.ends.push(count);
        Ok(())
    }

    /// Returns an index of the rows in memory, as [`write`](Self::write) makes it.
    ///
    /// # Errors
    /// None at present.
    pub fn index(self) -> Result<TokenIndex<Vec<u8>>> {
        TokenIndex::open(whole_segment(|to| self.write(to))?)
    }

    /// Writes the rows as the body of a segment, and returns its header. The same rows give the same bytes.
    ///
    /// Compares each token with each centre, of which there are four for the square root of the number of tokens.
    ///
    /// # Errors
    /// If writing fails.
    pub fn write(self, mut to: impl Write) -> Result<SegmentHeader> {
        let Self { dimensions, bits, tokens, ends } = self;
        let count = tokens.count();
        let centres = (4.0 * (count as f64).sqrt()) as usize;
        let means = match count {
            0 => Means::new(dimensions, vec![0.0; dimensions]),
            _ => Means::find_by_codes(&sample(&tokens, centres), dimensions, centres.clamp(1, MAX_CENTRES)),
        };
        let nearest = CentreCodes::new(&means).nearest_of((0..count).into_par_iter().map(|at| tokens.token(at)));
        let rest = |at: usize| -> Vec<f32> {
            let centre = means.centre(nearest[at] as usize);
            tokens.token(at).iter().zip(centre).map(|(token, centre)| token - centre).collect()
        };
        let step = (count * dimensions / LEVEL_SAMPLE).max(1);
        let left: Vec<f32> = (0..count).step_by(step).flat_map(rest).collect();
        let quantiser = codes::Quantiser::new(&left, dimensions, bits);
        let of_token = |at: usize| {
            let mut code = Vec::with_capacity(quantiser.allotment.bytes());
            let rest = rest(at);
            let scale = in_units(quantiser.encode(&quantiser.turned(&rest), &mut code));
            let decoded = quantiser.turned_back(&quantiser.decode(&code, f32::from(scale) / FACTOR_UNIT));
            let centre = means.centre(nearest[at] as usize);
            let decoded: Vec<f32> = centre.iter().zip(decoded).map(|(a, b)| a + b).collect();
            // The product of the decoded vector with the token becomes 1, so that products with others are right on average.
            let with_itself = product(&decoded, &tokens.token(at));
            (in_units(1.0 / with_itself.max(0.25)), scale, code)
        };
        let coded: Vec<(u16, u16, Vec<u8>)> = (0..count).into_par_iter().map(of_token).collect();
        let (list_ends, list_rows) = lists(&nearest, &ends, means.count());

        let mut body = BodyWriter::new(&mut to);
        let mut front = [0; FRONT];
        front[..4].copy_from_slice(&(means.count() as u32).to_le_bytes());
        front[4..8].copy_from_slice(&(count as u32).to_le_bytes());
        front[8] = u8::from(!quantiser.directions.is_empty());
        for (at, count) in quantiser.allotment.0.iter().enumerate() {
            front[12 + 4 * at..16 + 4 * at].copy_from_slice(&(*count as u32).to_le_bytes());
        }
        body.put(&front)?;
        let all_levels = quantiser.levels.concat();
        for numbers in [&means.numbers, &quantiser.directions, &quantiser.scales, &all_levels] {
            body.put(&numbers.iter().flat_map(|number| number.to_le_bytes()).collect::<Vec<u8>>())?;
        }
        for numbers in [&ends, &list_ends] {
            body.put(&numbers.iter().flat_map(|number| number.to_le_bytes()).collect::<Vec<u8>>())?;
        }
        body.put(&list_rows)?;
        let shorts = |of: &dyn Fn(usize) -> u16| (0..count).flat_map(|at| of(at).to_le_bytes()).collect::<Vec<u8>>();
        body.put(&shorts(&|at| nearest[at] as u16))?;
        body.put(&shorts(&|at| coded[at].0))?;
        body.put(&shorts(&|at| coded[at].1))?;
        for (_, _, code) in &coded {
            body.put(code)?;
        }
        Ok(body.finish(Kind::Tokens, ends.len() as u32, dimensions as u32, bits))
    }
}

/// Returns a number in the units of factors and scales; what is too large becomes the largest.
fn in_units(number: f32) -> u16 {
    (FACTOR_UNIT * number).round() as u16
}

/// Returns tokens at equal distances, as many as centres are made from.
fn sample(tokens: &Tokens, centres: usize) -> Vec<f32> {
    let wanted = (centres * SAMPLE.0).min(SAMPLE.1).max(1);
    let step = tokens.count().div_ceil(wanted).max(1);
    (0..tokens.count()).step_by(step).flat_map(|at| tokens.token(at)).collect()
}

/// Returns the rows that have a token of each centre, each as its distance from the one before, and the end of the bytes of each list.
fn lists(nearest: &[u32], ends: &[u32], centres: usize) -> (Vec<u32>, Vec<u8>) {
    let mut of_centre: Vec<Vec<u32>> = vec![Vec::new(); centres];
    let mut start = 0;
    for (row, &end) in (0_u32..).zip(ends) {
        for &centre in &nearest[start..end as usize] {
            let rows = &mut of_centre[centre as usize];
            if rows.last() != Some(&row) {
                rows.push(row);
            }
        }
        start = end as usize;
    }
    let mut bytes = Vec::new();
    let ends = of_centre.iter().map(|rows| {
        let mut before = 0;
        for row in rows {
            write_varint(row - before, &mut bytes);
            before = *row;
        }
        bytes.len() as u32
    });
    (ends.collect(), bytes)
}
