//! Products with the instructions of x86-64 processors.

use std::arch::x86_64::*;

use super::layout::{BYTES, ROWS, SHORTS, TileLayout, WIDE};

/// Runs the tile for a number of rows, which its accumulators are laid out for at compile time.
macro_rules! for_rows {
    ($count:expr, $tile:ident, $kind:literal, ($($arg:expr),*)) => {
        match $count {
            0 => {}
            1 => $tile::<1, $kind>($($arg),*),
            2 => $tile::<2, $kind>($($arg),*),
            3 => $tile::<3, $kind>($($arg),*),
            4 => $tile::<4, $kind>($($arg),*),
            5 => $tile::<5, $kind>($($arg),*),
            6 => $tile::<6, $kind>($($arg),*),
            7 => $tile::<7, $kind>($($arg),*),
            8 => $tile::<8, $kind>($($arg),*),
            9 => $tile::<9, $kind>($($arg),*),
            10 => $tile::<10, $kind>($($arg),*),
            11 => $tile::<11, $kind>($($arg),*),
            _ => $tile::<12, $kind>($($arg),*),
        }
    };
}

/// The number of registers of a panel that are prefetched.
const AHEAD: usize = 32;

const _: () = assert!(ROWS == 12 && WIDE == 32);

/// # Safety
/// The processor must support AVX-512 VNNI. `rows` must hold `count` rows, at most 12, of the panel's length, and `out` must
/// have room for a panel's outputs at the place of each.
#[target_feature(enable = "avx512f,avx512bw,avx512vnni")]
pub unsafe fn multiply_bytes_avx512(
    rows: &[u8],
    stride: usize,
    count: usize,
    panel: &[i8],
    out: &mut [i32],
    at: TileLayout,
) {
    let steps = panel.len() / (WIDE * BYTES);
    let out = out[at.column..].as_mut_ptr();
    // SAFETY: the caller guarantees the requirements of the tile.
    unsafe {
        for_rows!(count, tile_avx512, false, (rows.as_ptr(), stride, panel.as_ptr().cast(), steps, out, at.stride));
    }
}

/// # Safety
/// The processor must support AVX-512 VNNI. `rows` must hold `count` rows, at most 12, of the panel's length, and `out` must
/// have room for a panel's outputs at the place of each.
#[target_feature(enable = "avx512f,avx512bw,avx512vnni")]
pub unsafe fn multiply_shorts_avx512(
    rows: &[i16],
    stride: usize,
    count: usize,
    panel: &[i16],
    out: &mut [i32],
    at: TileLayout,
) {
    let steps = panel.len() / (WIDE * SHORTS);
    let out = out[at.column..].as_mut_ptr();
    let (rows, stride) = (rows.as_ptr().cast(), stride * size_of::<i16>());
    // SAFETY: the caller guarantees the requirements of the tile.
    unsafe { for_rows!(count, tile_avx512, true, (rows, stride, panel.as_ptr().cast(), steps, out, at.stride)) }
}

/// Multiplies `R` rows, one every `stride` bytes, by a panel: a step reads four bytes of each, as four bytes or as two 16-bit
/// integers.
///
/// # Safety
/// The processor must support AVX-512 VNNI. Rows and panel must be `steps` steps long, and `out` must have room for a panel's
/// outputs every `to` integers.
#[target_feature(enable = "avx512f,avx512bw,avx512vnni")]
// The pointers are passed through and not used.
#[allow(clippy::pointers_in_nomem_asm_block)]
unsafe fn tile_avx512<const R: usize, const SHORT: bool>(
    rows: *const u8,
    stride: usize,
    panel: *const __m512i,
    steps: usize,
    out: *mut i32,
    to: usize,
) {
    let multiply = |total, input, weights| match SHORT {
        true => _mm512_dpwssd_epi32(total, input, weights),
        false => _mm512_dpbusd_epi32(total, input, weights),
    };
    let mut totals = [[_mm512_setzero_si512(); 2]; R];
    // One pointer for three rows: the processor adds the stride, or twice the stride, while it reads.
    let mut thirds =
        [rows, rows.wrapping_add(stride * 3), rows.wrapping_add(stride * 6), rows.wrapping_add(stride * 9)];
    for step in 0..steps {
        // SAFETY: a step of the panel is two registers long, and each row is as many steps long as the panel.
        unsafe {
            let at = panel.add(step * 2);
            // Prefetching past the panel is harmless, since nothing is read.
            _mm_prefetch::<_MM_HINT_T0>(at.wrapping_add(AHEAD).cast());
            _mm_prefetch::<_MM_HINT_T0>(at.wrapping_add(AHEAD + 1).cast());
            let weights = [_mm512_loadu_si512(at), _mm512_loadu_si512(at.add(1))];
            for (row, totals) in totals.iter_mut().enumerate() {
                let from = thirds[row / 3].add(row % 3 * stride);
                let input = _mm512_set1_epi32(from.cast::<i32>().read_unaligned());
                totals[0] = multiply(totals[0], input, weights[0]);
                totals[1] = multiply(totals[1], input, weights[1]);
            }
            for third in thirds.iter_mut().take(R.div_ceil(3)) {
                let mut next = third.wrapping_add(4);
                // Does nothing, but keeps the compiler from computing the address of each row separately. Twelve more additions
                // a step would take longer than the products.
                std::arch::asm!("/* {0} */", inout(reg) next, options(pure, nomem, nostack, preserves_flags));
                *third = next;
            }
        }
    }
    // SAFETY: there is room for each row.
    unsafe { write_avx512(&totals, out, to) }
}

/// # Safety
/// The processor must support AVX-512. `out` must have room for two registers every `stride` integers.
#[target_feature(enable = "avx512f")]
unsafe fn write_avx512(totals: &[[__m512i; 2]], out: *mut i32, stride: usize) {
    for (row, totals) in totals.iter().enumerate() {
        // SAFETY: the caller guarantees the room.
        unsafe {
            let at = out.add(row * stride).cast::<__m512i>();
            _mm512_storeu_si512(at, totals[0]);
            _mm512_storeu_si512(at.add(1), totals[1]);
        }
    }
}

/// The number of rows of 16-bit integers that fit into the registers of AVX2.
const ROWS_AVX2: usize = 3;

/// Widens bytes to 16 bits first, because the instruction for bytes would saturate and return other integers.
///
/// # Safety
/// The processor must support AVX2. `rows` must hold `count` rows, at most 12, of the panel's length, and `out` must have room
/// for a panel's outputs at the place of each.
#[target_feature(enable = "avx2")]
pub unsafe fn multiply_bytes_avx2(
    rows: &[u8],
    stride: usize,
    count: usize,
    panel: &[i8],
    out: &mut [i32],
    at: TileLayout,
) {
    /// Half a panel at a time: four registers for each row.
    #[target_feature(enable = "avx2")]
    unsafe fn tile<const R: usize>(
        rows: *const u8,
        stride: usize,
        panel: *const i8,
        steps: usize,
        out: *mut i32,
        to: usize,
    ) {
        for half in 0..2 {
            let mut totals = [[_mm256_setzero_si256(); 4]; R];
            for step in 0..steps {
                // SAFETY: a step of the panel is eight times 16 bytes long, and each row as many steps as the panel.
                unsafe {
                    let mut inputs = [_mm256_setzero_si256(); R];
                    for (row, input) in inputs.iter_mut().enumerate() {
                        let four = rows.add(row * stride + step * BYTES).cast::<i32>().read_unaligned();
                        *input = _mm256_cvtepu8_epi16(_mm_set1_epi32(four));
                    }
                    for quarter in 0..4 {
                        let at = panel.add(step * WIDE * BYTES + half * 64 + quarter * 16).cast::<__m128i>();
                        let weights = _mm256_cvtepi8_epi16(_mm_loadu_si128(at));
                        for (totals, &input) in totals.iter_mut().zip(&inputs) {
                            let products = _mm256_madd_epi16(input, weights);
                            totals[quarter] = _mm256_add_epi32(totals[quarter], products);
                        }
                    }
                }
            }
            for (row, totals) in totals.iter().enumerate() {
                for pair in 0..2 {
                    // Two neighbouring sums hold each output. Adding them leaves quarters in the order 0 2 1 3.
                    let added = _mm256_hadd_epi32(totals[pair * 2], totals[pair * 2 + 1]);
                    let ordered = _mm256_permute4x64_epi64::<0b11_01_10_00>(added);
                    // SAFETY: there is room for each row, half a panel at a time.
                    unsafe { _mm256_storeu_si256(out.add(row * to + half * 16 + pair * 8).cast(), ordered) };
                }
            }
        }
    }
    let steps = panel.len() / (WIDE * BYTES);
    for from in (0..count).step_by(ROWS_AVX2) {
        let (rows, out) = (rows[from * stride..].as_ptr(), out[from * at.stride + at.column..].as_mut_ptr());
        // SAFETY: the caller guarantees the requirements of the tile.
        unsafe {
            match count - from {
                1 => tile::<1>(rows, stride, panel.as_ptr(), steps, out, at.stride),
                2 => tile::<2>(rows, stride, panel.as_ptr(), steps, out, at.stride),
                _ => tile::<ROWS_AVX2>(rows, stride, panel.as_ptr(), steps, out, at.stride),
            }
        }
    }
}

/// # Safety
/// The processor must support AVX2. `rows` must hold `count` rows, at most 12, of the panel's length, and `out` must have room
/// for a panel's outputs at the place of each.
#[target_feature(enable = "avx2")]
pub unsafe fn multiply_shorts_avx2(
    rows: &[i16],
    stride: usize,
    count: usize,
    panel: &[i16],
    out: &mut [i32],
    at: TileLayout,
) {
    #[target_feature(enable = "avx2")]
    unsafe fn tile<const R: usize>(
        rows: *const i16,
        stride: usize,
        panel: *const i16,
        steps: usize,
        out: *mut i32,
        to: usize,
    ) {
        let mut totals = [[_mm256_setzero_si256(); 4]; R];
        for step in 0..steps {
            // SAFETY: a step of the panel is four registers long, and each row is as many steps long as the panel.
            unsafe {
                let mut inputs = [_mm256_setzero_si256(); R];
                for (row, input) in inputs.iter_mut().enumerate() {
                    let two = rows.add(row * stride + step * SHORTS).cast::<i32>().read_unaligned();
                    *input = _mm256_set1_epi32(two);
                }
                for quarter in 0..4 {
                    let at = panel.add(step * WIDE * SHORTS + quarter * 16).cast::<__m256i>();
                    let weights = _mm256_loadu_si256(at);
                    for (totals, &input) in totals.iter_mut().zip(&inputs) {
                        totals[quarter] = _mm256_add_epi32(totals[quarter], _mm256_madd_epi16(input, weights));
                    }
                }
            }
        }
        for (row, totals) in totals.iter().enumerate() {
            for (quarter, &total) in totals.iter().enumerate() {
                // SAFETY: there is room for each row, a quarter of a panel at a time.
                unsafe { _mm256_storeu_si256(out.add(row * to + quarter * 8).cast(), total) };
            }
        }
    }
    let steps = panel.len() / (WIDE * SHORTS);
    for from in (0..count).step_by(ROWS_AVX2) {
        let (rows, out) = (rows[from * stride..].as_ptr(), out[from * at.stride + at.column..].as_mut_ptr());
        // SAFETY: the caller guarantees the requirements of the tile.
        unsafe {
            match count - from {
                1 => tile::<1>(rows, stride, panel.as_ptr(), steps, out, at.stride),
                2 => tile::<2>(rows, stride, panel.as_ptr(), steps, out, at.stride),
                _ => tile::<ROWS_AVX2>(rows, stride, panel.as_ptr(), steps, out, at.stride),
            }
        }
    }
}

/// Multiplies and adds bytes in registers, `rounds` times 24 registers of 64 products.
///
/// # Safety
/// The processor must support AVX-512 VNNI.
#[target_feature(enable = "avx512f,avx512vnni")]
pub unsafe fn spin_avx512(rounds: usize, seed: i32) -> i32 {
    let factor = _mm512_set1_epi32(seed);
    let mut totals = [_mm512_setzero_si512(); 24];
    for _ in 0..rounds {
        for total in &mut totals {
            *total = _mm512_dpbusd_epi32(*total, factor, factor);
        }
    }
    let total = totals.iter().fold(_mm512_setzero_si512(), |sum, &total| _mm512_add_epi32(sum, total));
    _mm512_reduce_add_epi32(total)
}

/// Does the same with AVX2: twelve registers of 16 products, and a sum for each.
///
/// # Safety
/// The processor must support AVX2.
#[target_feature(enable = "avx2")]
pub unsafe fn spin_avx2(rounds: usize, seed: i32) -> i32 {
    let factor = _mm256_set1_epi32(seed);
    let mut totals = [factor; 12];
    for _ in 0..rounds {
        for total in &mut totals {
            *total = _mm256_add_epi32(*total, _mm256_madd_epi16(*total, factor));
        }
    }
    let total = totals.iter().fold(_mm256_setzero_si256(), |sum, &total| _mm256_add_epi32(sum, total));
    _mm256_extract_epi32::<0>(total)
}
