//! Products of codes, with the widest instructions of the processor. All kernels return the same integers.

#![allow(unsafe_code)]

#[cfg(target_arch = "x86_64")]
mod x86;

/// An implementation of the products that this processor supports.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Kernel(Path);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Path {
    Portable,
    #[cfg(target_arch = "x86_64")]
    Avx2,
    #[cfg(target_arch = "x86_64")]
    Avx512,
}

impl Kernel {
    /// Returns all kernels that this processor supports, the fastest last.
    pub fn all() -> impl Iterator<Item = Self> {
        let ways = [
            Some(Path::Portable),
            #[cfg(target_arch = "x86_64")]
            is_x86_feature_detected!("avx2").then_some(Path::Avx2),
            #[cfg(target_arch = "x86_64")]
            (is_x86_feature_detected!("avx512f") && is_x86_feature_detected!("avx512vnni")).then_some(Path::Avx512),
        ];
        ways.into_iter().flatten().map(Self)
    }

    /// Returns the fastest kernel.
    pub fn best() -> Self {
        Self::all().last().unwrap_or(Self(Path::Portable))
    }

    /// Computes the products of a query with consecutive rows, as many as `sums` has room for.
    ///
    /// # Panics
    /// If the length of the query is not a multiple of 64, or the rows have another length.
    pub fn products(self, query: &[i8], rows: &[u8], sums: &mut [i32]) {
        assert!(query.len().is_multiple_of(64) && rows.len() == query.len() * sums.len());
        match self.0 {
            Path::Portable => plain(query, rows, sums),
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value shows that the processor knows AVX2; the lengths were checked above.
            Path::Avx2 => unsafe { x86::products_avx2(query, rows, sums) },
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value shows that the processor knows AVX-512 VNNI; the lengths were checked above.
            Path::Avx512 => unsafe { x86::products_avx512(query, rows, sums) },
        }
    }

    /// Computes the products of a query with some rows; `rows` has their numbers, counted from the front of `codes`.
    ///
    /// # Panics
    /// If the length of the query is not a multiple of 64, the numbers of sums and rows differ, or a row lies past the end.
    pub fn products_of(self, query: &[i8], codes: &[u8], rows: &[u32], sums: &mut [i32]) {
        assert!(query.len().is_multiple_of(64) && rows.len() == sums.len());
        let count = codes.len() / query.len().max(1);
        assert!(rows.iter().all(|&row| (row as usize) < count));
        match self.0 {
            Path::Portable => {
                for (&row, sum) in rows.iter().zip(sums) {
                    plain(query, &codes[row as usize * query.len()..][..query.len()], std::slice::from_mut(sum));
                }
            }
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value shows that the processor knows AVX2; lengths and rows were checked above.
            Path::Avx2 => unsafe { x86::products_of_avx2(query, codes, rows, sums) },
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value shows that the processor knows AVX-512 VNNI; lengths and rows were checked above.
            Path::Avx512 => unsafe { x86::products_of_avx512(query, codes, rows, sums) },
        }
    }
}

/// Prefetches bytes.
#[inline(always)]
pub fn prefetch(bytes: &[u8]) {
    #[cfg(target_arch = "x86_64")]
    for line in bytes.chunks(64) {
        use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
        // SAFETY: every processor of this kind has the instruction, and it has no visible effect.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(line.as_ptr().cast()) };
    }
    #[cfg(not(target_arch = "x86_64"))]
    let _ = bytes;
}

fn plain(query: &[i8], rows: &[u8], sums: &mut [i32]) {
    for (row, sum) in rows.chunks_exact(query.len().max(1)).zip(sums) {
        *sum = row.iter().zip(query).map(|(&a, &b)| i32::from(a) * i32::from(b)).sum();
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_way_gives_the_same_integers(blocks in 0usize..5, rows in 0usize..7, seed: u64, extreme: bool) {
            let mut state = seed;
            let mut next = || {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                (state >> 56) as u8
            };
            let query: Vec<i8> = (0..blocks * 64).map(|_| if extreme { -127 } else { next() as i8 }).collect();
            let codes: Vec<u8> = (0..rows * blocks * 64).map(|_| if extreme { 255 } else { next() }).collect();
            let through = |kernel: Kernel| {
                let mut sums = vec![7; rows];
                kernel.products(&query, &codes, &mut sums);
                sums
            };
            let expected: Vec<i32> = (0..rows)
                .map(|row| (0..query.len()).map(|at| i32::from(query[at]) * i32::from(codes[row * query.len() + at])).sum())
                .collect();
            let backwards: Vec<u32> = (0..rows as u32).rev().collect();
            for kernel in Kernel::all() {
                // Vectors without numbers are never searched.
                if blocks > 0 {
                    prop_assert_eq!(through(kernel), expected.clone(), "{:?}", kernel);
                    let mut sums = vec![7; rows];
                    kernel.products_of(&query, &codes, &backwards, &mut sums);
                    sums.reverse();
                    prop_assert_eq!(&sums, &expected, "some rows, {:?}", kernel);
                }
            }
        }
    }
}
