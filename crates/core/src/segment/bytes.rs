//! Checked reads of numbers from bytes that may be damaged.

/// Returns the little-endian number at a place; `None` if the bytes end first.
pub(crate) fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    let slice = bytes.get(at..at.checked_add(4)?)?;
    Some(u32::from_le_bytes(slice.try_into().ok()?))
}

/// Returns the little-endian number at a place; `None` if the bytes end first.
pub(crate) fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    let slice = bytes.get(at..at.checked_add(8)?)?;
    Some(u64::from_le_bytes(slice.try_into().ok()?))
}

/// Returns the little-endian number at a place; `None` if the bytes end first.
pub(crate) fn f32_at(bytes: &[u8], at: usize) -> Option<f32> {
    u32_at(bytes, at).map(f32::from_bits)
}

/// Writes a number in 7-bit groups, the lowest first; the high bit says that another follows.
pub(crate) fn write_varint(mut value: u32, to: &mut Vec<u8>) {
    while value >= 0x80 {
        to.push((value as u8) | 0x80);
        value >>= 7;
    }
    to.push(value as u8);
}

/// Reads such a number and moves on. Returns `None` if the bytes end first or the number does not fit.
pub(crate) fn read_varint(bytes: &mut &[u8]) -> Option<u32> {
    let mut value = 0u64;
    for shift in 0..5 {
        let (&byte, rest) = bytes.split_first()?;
        *bytes = rest;
        value |= u64::from(byte & 0x7f) << (7 * shift);
        if byte & 0x80 == 0 {
            return u32::try_from(value).ok();
        }
    }
    None
}
