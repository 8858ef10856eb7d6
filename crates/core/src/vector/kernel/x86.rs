//! Products of codes with the instructions of x86-64 processors.

use std::arch::x86_64::*;

use super::prefetch;

/// The number of bytes that consecutive rows are prefetched ahead.
const AHEAD: usize = 2048;
/// The number of rows that picked rows are prefetched ahead.
const PICKED_AHEAD: usize = 3;

/// # Safety
/// The processor must support AVX-512 VNNI. The length of the query must be a multiple of 64, and the rows must have this
/// length.
#[target_feature(enable = "avx512f,avx512vnni,avx2")]
pub unsafe fn products_avx512(query: &[i8], rows: &[u8], sums: &mut [i32]) {
    let length = query.len();
    // Sums four rows together.
    let (fours, rest) = sums.as_chunks_mut::<4>();
    let done = fours.len() * 4;
    for (at, four) in fours.iter_mut().enumerate() {
        // SAFETY: there are as many rows as sums, each as long as the query; prefetching past them does nothing.
        unsafe {
            let first = rows.as_ptr().add(at * 4 * length);
            for line in 0..length / 16 {
                _mm_prefetch::<_MM_HINT_T0>(first.wrapping_add(AHEAD + line * 64).cast());
            }
            let (a, b) = (product_avx512(query, first), product_avx512(query, first.add(length)));
            let (c, d) = (product_avx512(query, first.add(2 * length)), product_avx512(query, first.add(3 * length)));
            let halves = _mm256_hadd_epi32(_mm256_hadd_epi32(a, b), _mm256_hadd_epi32(c, d));
            let whole = _mm_add_epi32(_mm256_castsi256_si128(halves), _mm256_extracti128_si256::<1>(halves));
            _mm_storeu_si128(four.as_mut_ptr().cast(), whole);
        }
    }
    for (at, sum) in rest.iter_mut().enumerate() {
        // SAFETY: as above.
        *sum = unsafe { total(product_avx512(query, rows.as_ptr().add((done + at) * length))) };
    }
}

/// # Safety
/// The processor must support AVX-512 VNNI. The length of the query must be a multiple of 64, and `codes` must hold the rows,
/// each of this length.
#[target_feature(enable = "avx512f,avx512vnni,avx2")]
pub unsafe fn products_of_avx512(query: &[i8], codes: &[u8], rows: &[u32], sums: &mut [i32]) {
    let length = query.len();
    for (at, (&row, sum)) in rows.iter().zip(sums).enumerate() {
        if let Some(&next) = rows.get(at + PICKED_AHEAD) {
            prefetch(&codes[next as usize * length..][..length]);
        }
        // SAFETY: the row lies in `codes`.
        *sum = unsafe { total(product_avx512(query, codes.as_ptr().add(row as usize * length))) };
    }
}

/// Returns the sums of the products in eight lanes.
///
/// # Safety
/// The processor must support AVX-512 VNNI. The row must be as long as the query, whose length must be a multiple of 64.
#[target_feature(enable = "avx512f,avx512vnni,avx2")]
unsafe fn product_avx512(query: &[i8], row: *const u8) -> __m256i {
    let steps = query.len() / 64;
    // Two sums, so that neither waits for the other.
    let (mut even, mut odd) = (_mm512_setzero_si512(), _mm512_setzero_si512());
    let product = |total, step: usize| {
        // SAFETY: the row and the query have this number of blocks of 64 bytes.
        unsafe {
            let query = _mm512_loadu_si512(query.as_ptr().add(step * 64).cast());
            _mm512_dpbusd_epi32(total, _mm512_loadu_si512(row.add(step * 64).cast()), query)
        }
    };
    for pair in 0..steps / 2 {
        even = product(even, pair * 2);
        odd = product(odd, pair * 2 + 1);
    }
    if steps % 2 == 1 {
        even = product(even, steps - 1);
    }
    let sum = _mm512_add_epi32(even, odd);
    _mm256_add_epi32(_mm512_castsi512_si256(sum), _mm512_extracti64x4_epi64::<1>(sum))
}

/// Returns the sum of eight lanes.
#[target_feature(enable = "avx2")]
fn total(lanes: __m256i) -> i32 {
    let half = _mm_add_epi32(_mm256_castsi256_si128(lanes), _mm256_extracti128_si256::<1>(lanes));
    let quarter = _mm_add_epi32(half, _mm_shuffle_epi32::<0b01_00_11_10>(half));
    _mm_cvtsi128_si32(_mm_add_epi32(quarter, _mm_shuffle_epi32::<0b00_00_00_01>(quarter)))
}

/// # Safety
/// The processor must support AVX2. The length of the query must be a multiple of 64, and the rows must have this length.
#[target_feature(enable = "avx2")]
pub unsafe fn products_avx2(query: &[i8], rows: &[u8], sums: &mut [i32]) {
    for (row, sum) in sums.iter_mut().enumerate() {
        // SAFETY: there are as many rows as sums, each as long as the query.
        *sum = unsafe { total(product_avx2(query, rows.as_ptr().add(row * query.len()))) };
    }
}

/// # Safety
/// The processor must support AVX2. The length of the query must be a multiple of 64, and `codes` must hold the rows, each of
/// this length.
#[target_feature(enable = "avx2")]
pub unsafe fn products_of_avx2(query: &[i8], codes: &[u8], rows: &[u32], sums: &mut [i32]) {
    let length = query.len();
    for (at, (&row, sum)) in rows.iter().zip(sums).enumerate() {
        if let Some(&next) = rows.get(at + PICKED_AHEAD) {
            prefetch(&codes[next as usize * length..][..length]);
        }
        // SAFETY: the row lies in `codes`.
        *sum = unsafe { total(product_avx2(query, codes.as_ptr().add(row as usize * length))) };
    }
}

/// Returns the sums of the products in eight lanes. Bytes are widened to 16 bits first, because the instruction for bytes would
/// saturate and return other integers.
///
/// # Safety
/// The processor must support AVX2. The row must be as long as the query, whose length must be a multiple of 64.
#[target_feature(enable = "avx2")]
unsafe fn product_avx2(query: &[i8], row: *const u8) -> __m256i {
    let (mut even, mut odd) = (_mm256_setzero_si256(), _mm256_setzero_si256());
    let product = |total, step: usize| {
        // SAFETY: the row and the query have this number of blocks of 64 bytes.
        unsafe {
            let codes = _mm_loadu_si128(row.add(step * 16).cast());
            let query = _mm_loadu_si128(query.as_ptr().add(step * 16).cast());
            let products = _mm256_madd_epi16(_mm256_cvtepu8_epi16(codes), _mm256_cvtepi8_epi16(query));
            _mm256_add_epi32(total, products)
        }
    };
    // A row is a multiple of 64 bytes long.
    for pair in 0..query.len() / 32 {
        even = product(even, pair * 2);
        odd = product(odd, pair * 2 + 1);
    }
    _mm256_add_epi32(even, odd)
}
