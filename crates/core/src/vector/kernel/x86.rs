//! Products of codes with the instructions of x86-64 processors.

use std::arch::x86_64::*;

/// # Safety
/// The processor knows AVX-512 VNNI; the query is a multiple of 64 long, and the rows are as long as it.
#[target_feature(enable = "avx512f,avx512vnni")]
pub unsafe fn products_avx512(query: &[i8], rows: &[u8], sums: &mut [i32]) {
    let steps = query.len() / 64;
    for (row, sum) in sums.iter_mut().enumerate() {
        let mut totals = [_mm512_setzero_si512(); 2];
        for step in 0..steps {
            // SAFETY: each row is so many times 64 bytes long, and so is the query.
            unsafe {
                let codes = _mm512_loadu_si512(rows.as_ptr().add((row * steps + step) * 64).cast());
                let query = _mm512_loadu_si512(query.as_ptr().add(step * 64).cast());
                totals[step % 2] = _mm512_dpbusd_epi32(totals[step % 2], codes, query);
            }
        }
        *sum = _mm512_reduce_add_epi32(_mm512_add_epi32(totals[0], totals[1]));
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
        let mut totals = [_mm256_setzero_si256(); 2];
        for step in 0..steps {
            // SAFETY: each row is so many times 16 bytes long, and so is the query.
            unsafe {
                let codes = _mm_loadu_si128(rows.as_ptr().add((row * steps + step) * 16).cast());
                let query = _mm_loadu_si128(query.as_ptr().add(step * 16).cast());
                let products = _mm256_madd_epi16(_mm256_cvtepu8_epi16(codes), _mm256_cvtepi8_epi16(query));
                totals[step % 2] = _mm256_add_epi32(totals[step % 2], products);
            }
        }
        let total = _mm256_add_epi32(totals[0], totals[1]);
        let half = _mm_add_epi32(_mm256_castsi256_si128(total), _mm256_extracti128_si256::<1>(total));
        let quarter = _mm_add_epi32(half, _mm_shuffle_epi32::<0b01_00_11_10>(half));
        *sum = _mm_cvtsi128_si32(_mm_add_epi32(quarter, _mm_shuffle_epi32::<0b00_00_00_01>(quarter)));
    }
}
