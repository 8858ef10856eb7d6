//! The arithmetic that takes most of the time: products of small integers, and the steps between two of them.
//!
//! All `unsafe` code of the crate is here. A [`Kernel`] is one implementation, and exists only if the processor has its instructions.
//! All kernels return the same integers and the same floating-point numbers: sums run over `LANES` accumulators in a fixed order, a
//! product and a sum are fused only where the code says so, and no function of the platform is called.
//!
//! Matrices are laid out in panels of [`WIDE`] outputs, so that every kernel reads them from front to end. For each step over the
//! inputs there are [`WIDE`] groups of four bytes, or of two 16-bit integers.

#![allow(unsafe_code)]

mod activation;
mod layout;
mod plain;
#[cfg(target_arch = "x86_64")]
mod x86;

pub use activation::Activation;
pub use layout::{BYTES, Finish, Grid, ROWS, SHORTS, Sums, TileLayout, WIDE};

/// An implementation of the arithmetic that this processor supports.
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
    /// Returns the fastest kernel that this processor supports.
    pub fn best() -> Self {
        #[cfg(target_arch = "x86_64")]
        {
            if is_x86_feature_detected!("avx512f")
                && is_x86_feature_detected!("fma")
                && is_x86_feature_detected!("avx512bw")
                && is_x86_feature_detected!("avx512vl")
                && is_x86_feature_detected!("avx512dq")
                && is_x86_feature_detected!("avx512vnni")
            {
                return Self(Path::Avx512);
            }
            if is_x86_feature_detected!("avx2") && is_x86_feature_detected!("fma") {
                return Self(Path::Avx2);
            }
        }
        Self::portable()
    }

    /// Returns the kernel that every processor supports.
    pub fn portable() -> Self {
        Self(Path::Portable)
    }

    /// Returns all kernels that this processor supports.
    pub fn all() -> Vec<Self> {
        #[cfg(target_arch = "x86_64")]
        {
            let mut all = vec![Self::portable()];
            let best = Self::best();
            if best != Self::portable() {
                // A processor with the widest instructions also has the narrower ones.
                all.push(Self(Path::Avx2));
            }
            if best.0 == Path::Avx512 {
                all.push(best);
            }
            all
        }
        #[cfg(not(target_arch = "x86_64"))]
        vec![Self::portable()]
    }

    /// Returns its name.
    pub fn name(self) -> &'static str {
        match self.0 {
            Path::Portable => "portable",
            #[cfg(target_arch = "x86_64")]
            Path::Avx2 => "AVX2",
            #[cfg(target_arch = "x86_64")]
            Path::Avx512 => "AVX-512 VNNI",
        }
    }

    /// Applies an activation to every number, to within 1e-6.
    pub fn activate(self, activation: Activation, values: &mut [f32]) {
        match activation {
            Activation::Gelu => self.gelu(values),
            Activation::GeluTanh => self.gelu_tanh(values),
            Activation::Relu => self.relu(values),
        }
    }

    /// Multiplies rows of bytes by a panel of signed bytes: `out[row][output] = Σ rows[row][k] · panel[k][output]`, written
    /// at a place in rows. A row begins every `stride` bytes; the panel says how long it is.
    ///
    /// # Panics
    /// If there are more than [`ROWS`] rows, or `rows` or `out` is shorter than they are.
    pub fn multiply_bytes(
        self,
        rows: &[u8],
        stride: usize,
        count: usize,
        panel: &[i8],
        out: &mut [i32],
        at: TileLayout,
    ) {
        let steps = panel.len() / (WIDE * BYTES);
        assert!(panel.len().is_multiple_of(WIDE * BYTES) && reaches(rows.len(), stride, count, steps * BYTES));
        assert!(at.column + WIDE <= at.stride && reaches(out.len(), at.stride, count, at.column + WIDE));
        match self.0 {
            Path::Portable => plain::multiply_bytes(rows, stride, count, panel, out, at),
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value exists only if the processor supports AVX2; the lengths were checked above.
            Path::Avx2 => unsafe { x86::multiply_bytes_avx2(rows, stride, count, panel, out, at) },
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value exists only if the processor supports AVX-512 VNNI; the lengths were checked above.
            Path::Avx512 => unsafe { x86::multiply_bytes_avx512(rows, stride, count, panel, out, at) },
        }
    }

    /// Multiplies rows of 16-bit integers by a panel of them. The caller must keep every sum within 32 bits; otherwise it wraps
    /// around, equally in every kernel.
    ///
    /// # Panics
    /// If there are more than [`ROWS`] rows, or `rows` or `out` is shorter than they are.
    pub fn multiply_shorts(
        self,
        rows: &[i16],
        stride: usize,
        count: usize,
        panel: &[i16],
        out: &mut [i32],
        at: TileLayout,
    ) {
        let steps = panel.len() / (WIDE * SHORTS);
        assert!(panel.len().is_multiple_of(WIDE * SHORTS) && reaches(rows.len(), stride, count, steps * SHORTS));
        assert!(at.column + WIDE <= at.stride && reaches(out.len(), at.stride, count, at.column + WIDE));
        match self.0 {
            Path::Portable => plain::multiply_shorts(rows, stride, count, panel, out, at),
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value exists only if the processor supports AVX2; the lengths were checked above.
            Path::Avx2 => unsafe { x86::multiply_shorts_avx2(rows, stride, count, panel, out, at) },
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value exists only if the processor supports AVX-512 VNNI; the lengths were checked above.
            Path::Avx512 => unsafe { x86::multiply_shorts_avx512(rows, stride, count, panel, out, at) },
        }
    }

    /// Multiplies and adds in registers alone, as fast as the processor can, to measure its peak. Returns the number of
    /// products, and a number that depends on them.
    pub fn spin(self, rounds: usize, seed: i32) -> (u64, i32) {
        match self.0 {
            Path::Portable => {
                let spun = (0..rounds).fold(seed, |sum, _| sum.wrapping_mul(seed).wrapping_add(1));
                (rounds as u64, spun)
            }
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value exists only if the processor supports AVX2.
            Path::Avx2 => (rounds as u64 * 12 * 16, unsafe { x86::spin_avx2(rounds, seed) }),
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the value exists only if the processor supports AVX-512 VNNI.
            Path::Avx512 => (rounds as u64 * 24 * 64, unsafe { x86::spin_avx512(rounds, seed) }),
        }
    }
}

/// Returns `true` if `held` numbers contain `count` rows of a length, one every `stride`.
fn reaches(held: usize, stride: usize, count: usize, length: usize) -> bool {
    count <= ROWS && (count == 0 || (length <= stride || count == 1) && held >= (count - 1) * stride + length)
}

/// Compiles functions of [`plain`] for each kernel, and calls the one of this kernel.
macro_rules! every_way {
    ($($(#[$doc:meta])* fn $name:ident($($arg:ident: $kind:ty),*) $(-> $result:ty)?;)*) => {
        impl Kernel {
            $($(#[$doc])* #[allow(clippy::too_many_arguments)]
            pub fn $name(self, $($arg: $kind),*) $(-> $result)? {
                #[cfg(target_arch = "x86_64")]
                {
                    #[target_feature(enable = "avx2,fma")]
                    #[allow(clippy::too_many_arguments)]
                    fn avx2($($arg: $kind),*) $(-> $result)? {
                        plain::$name($($arg),*)
                    }
                    #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq,fma")]
                    #[allow(clippy::too_many_arguments)]
                    fn avx512($($arg: $kind),*) $(-> $result)? {
                        plain::$name($($arg),*)
                    }
                    match self.0 {
                        Path::Portable => {}
                        // SAFETY: the value exists only if the processor supports AVX2.
                        Path::Avx2 => return unsafe { avx2($($arg),*) },
                        // SAFETY: the value exists only if the processor supports AVX-512.
                        Path::Avx512 => return unsafe { avx512($($arg),*) },
                    }
                }
                plain::$name($($arg),*)
            })*
        }
    };
}

every_way! {
    /// Turns numbers into bytes, spread evenly between the lowest and the highest of them.
    fn to_bytes(values: &[f32], bytes: &mut [u8]) -> Grid;
    /// Computes the greatest distance from zero in each column of some rows, which are as long as `farthest`.
    fn farthest(rows: &[f32], farthest: &mut [f32]);
    /// Turns the first `width` numbers of each row into 16-bit integers: `round(number · factor)`. The factor keeps them in
    /// range. Rows begin every `stride` numbers, and every `out_stride` integers.
    fn rows_to_shorts(rows: &[f32], stride: usize, width: usize, factor: f32, out: &mut [i16], out_stride: usize);
    /// Does the same, into panels with an output for each row.
    fn rows_to_outputs(rows: &[f32], stride: usize, width: usize, factor: f32, panels: &mut [i16]);
    /// Does the same, into panels with an input for each row, as many as `panels` holds.
    fn rows_to_inputs(rows: &[f32], stride: usize, width: usize, factor: f32, panels: &mut [i16]);
    /// Turns the sums of a tile into numbers. The activation is exact to 3e-4, which suffices for eight bits.
    fn finish(sums: &Sums, grids: &[Grid], finish: Finish<'_>, activation: Option<Activation>, out: &mut [f32], at: TileLayout);
    /// Turns the first `count` sums into shares of 32767 by the softmax of `sum · factor`, and returns the sum of the shares.
    /// All three slices must have room up to the next multiple of [`WIDE`]; what follows `count` is overwritten.
    fn shares(sums: &mut [i32], count: usize, factor: f32, exponentials: &mut [f32], shares: &mut [i16]) -> i32;
    /// Writes the first `width` sums of each row times its factor.
    fn scale(sums: &Sums, factors: &[f32], width: usize, out: &mut [f32], at: TileLayout);
    /// Replaces numbers by their softmax.
    fn softmax(values: &mut [f32]);
    /// Applies the Gaussian error linear unit.
    fn gelu(values: &mut [f32]);
    /// Applies the approximation of the Gaussian error linear unit by the hyperbolic tangent, which some models are trained
    /// with.
    fn gelu_tanh(values: &mut [f32]);
    /// Replaces negative numbers by zero.
    fn relu(values: &mut [f32]);
    /// Adds `added` to a row, scales it to mean 0 and variance 1, and applies the weights and the bias.
    fn add_and_normalise(row: &mut [f32], added: &[f32], weights: &[f32], bias: &[f32], epsilon: f32);
    /// Adds numbers to numbers.
    fn add(values: &mut [f32], added: &[f32]);
    /// Replaces each number by the greater of it and the other.
    fn greater(values: &mut [f32], others: &[f32]);
    /// Writes a row of a table of 4-bit numbers. Each group of 32 has a step and a lowest value as 16-bit floats, then the
    /// bits.
    fn unpack_nibbles(row: &[u8], out: &mut [f32]);
    /// Multiplies rows of numbers by a panel of them.
    fn multiply_floats(rows: &[f32], stride: usize, count: usize, panel: &[f32], out: &mut [f32], at: TileLayout);
}
