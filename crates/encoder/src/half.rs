//! 16-bit floating-point numbers.

/// Returns the number of 16 bits in IEEE 754 binary16.
pub fn from_half(bits: u16) -> f32 {
    let sign = u32::from(bits >> 15) << 31;
    let exponent = u32::from(bits >> 10) & 31;
    let fraction = u32::from(bits) & 1023;
    match exponent {
        // Below the smallest normal number, the fraction counts in units of 2^-24.
        0 => f32::from_bits((fraction as f32 * 2.0_f32.powi(-24)).to_bits() | sign),
        31 => f32::from_bits(sign | 0x7f80_0000 | fraction << 13),
        _ => f32::from_bits(sign | (exponent + 112) << 23 | fraction << 13),
    }
}

/// Returns the nearest binary16 number, ties to even; too large numbers become infinite.
pub fn to_half(value: f32) -> u16 {
    let sign = (value.to_bits() >> 16 & 0x8000) as u16;
    let size = value.abs();
    if size.is_nan() {
        return sign | 0x7e00;
    }
    if size >= 65520.0 {
        return sign | 0x7c00;
    }
    if size < 2.0_f32.powi(-14) {
        return sign | (size * 2.0_f32.powi(24)).round_ties_even() as u16;
    }
    let bits = size.to_bits();
    let rounded = bits + 0xfff + (bits >> 13 & 1);
    sign | ((rounded >> 13) - (112 << 10)) as u16
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_half_comes_back() {
        for bits in 0..=u16::MAX {
            let value = from_half(bits);
            if !value.is_nan() {
                assert_eq!(to_half(value), bits, "{value}");
            }
        }
    }

    #[test]
    fn numbers_between_halves_go_to_the_nearer_one() {
        assert_eq!(from_half(to_half(1.0 + 0.4 / 1024.0)), 1.0);
        assert_eq!(from_half(to_half(1.0 + 0.6 / 1024.0)), 1.0 + 1.0 / 1024.0);
        assert_eq!(from_half(to_half(-1e-7)), -2.0_f32.powi(-23));
        assert_eq!(from_half(to_half(1e6)), f32::INFINITY);
        assert!(from_half(to_half(f32::NAN)).is_nan());
    }
}
