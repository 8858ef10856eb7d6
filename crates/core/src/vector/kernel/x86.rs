//! Products of codes with the instructions of x86-64 processors.

use std::arch::x86_64::*;

/// # Safety
/// The processor knows AVX-512 VNNI; the query is a multiple of 64 long, and the rows are as long as it.
#[target_feature(enable = "avx512f,avx512vnni")]
pub unsafe fn products_avx512(query: &[i8], rows: &[u8], sums: &mut [i32]) {
    let steps = query.len() / 64;
    for (row, sum) in sums.iter_mut().enumerate() {
        // Two sums, so that one need not wait for the other.
        let (mut even, mut odd) = (_mm512_setzero_si512(), _mm512_setzero_si512());
        let product = |total, step: usize| {
            // SAFETY: each row is so many times 64 bytes long, and so is the query.
            unsafe {
                let codes = _mm512_loadu_si512(rows.as_ptr().add((row * steps + step) * 64).cast());
                let query = _mm512_loadu_si512(query.as_ptr().add(step * 64).cast());
                _mm512_dpbusd_epi32(total, codes, query)
            }
        };
        for pair in 0..steps / 2 {
            even = product(even, pair * 2);
            odd = product(odd, pair * 2 + 1);
        }
        if steps % 2 == 1 {
            even = product(even, steps - 1);
        }
        *sum = _mm512_reduce_add_epi32(_mm512_add_epi32(even, odd));
    }
}

/// Bytes are widened to 16 bits first: the instruction for bytes would saturate, and other integers come out.
///
/// # Safety
/// The processor knows AVX2; the query is a multiple of 64 long, and the rows are as long as it.
#[target_feature(enable = "avx2")]
pub unsafe fn products_avx2(query: &[i8], rows: &[u8], sums: &mut [i32]) {
    let steps = query.len() / 16;
    for (row, sum) in sums.iter_mut().enumerate() {
        let (mut even, mut odd) = (_mm256_setzero_si256(), _mm256_setzero_si256());
        let product = |total, step: usize| {
            // SAFETY: each row is so many times 16 bytes long, and so is the query.
            unsafe {
                let codes = _mm_loadu_si128(rows.as_ptr().add((row * steps + step) * 16).cast());
                let query = _mm_loadu_si128(query.as_ptr().add(step * 16).cast());
                let products = _mm256_madd_epi16(_mm256_cvtepu8_epi16(codes), _mm256_cvtepi8_epi16(query));
                _mm256_add_epi32(total, products)
            }
        };
        // A row is a multiple of 64 bytes long.
        for pair in 0..steps / 2 {
            even = product(even, pair * 2);
            odd = product(odd, pair * 2 + 1);
        }
        let total = _mm256_add_epi32(even, odd);
        let half = _mm_add_epi32(_mm256_castsi256_si128(total), _mm256_extracti128_si256::<1>(total));
        let quarter = _mm_add_epi32(half, _mm_shuffle_epi32::<0b01_00_11_10>(half));
        *sum = _mm_cvtsi128_si32(_mm_add_epi32(quarter, _mm_shuffle_epi32::<0b00_00_00_01>(quarter)));
    }
}
