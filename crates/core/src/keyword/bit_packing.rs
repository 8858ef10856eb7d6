//! Packs small numbers with as many bits as the largest needs.

/// Returns the number of bits that the largest of the numbers needs.
pub(super) fn width(numbers: &[u32]) -> u32 {
    32 - numbers.iter().fold(0, |all, number| all | number).leading_zeros()
}

/// Writes numbers in `width` bits each, the lowest bits first.
pub(super) fn pack(numbers: &[u32], width: u32, to: &mut Vec<u8>) {
    if width == 0 {
        return;
    }
    let (mut held, mut bits) = (0_u64, 0);
    for &number in numbers {
        held |= u64::from(number) << bits;
        bits += width;
        if bits >= 32 {
            to.extend((held as u32).to_le_bytes());
            held >>= 32;
            bits -= 32;
        }
    }
    to.extend(&held.to_le_bytes()[..bits.div_ceil(8) as usize]);
}

/// Returns the number of bytes that `count` numbers take.
pub(super) fn packed_length(count: usize, width: u32) -> usize {
    (count * width as usize).div_ceil(8)
}

/// Reads as many numbers as there is room for. Returns `None` if the bytes end first or a number has more than 32 bits.
pub(super) fn unpack(bytes: &[u8], width: u32, to: &mut [u32]) -> Option<()> {
    /// The length of 128 packed numbers, and of a read of eight bytes beyond their end.
    const ROOM: usize = 128 * 4 + 8;
    let length = packed_length(to.len(), width);
    let bytes = bytes.get(..length)?;
    if width > 32 || length + 8 > ROOM {
        return None;
    }
    let mut room = [0_u8; ROOM];
    room[..length].copy_from_slice(bytes);
    let mask = (1_u64 << width) - 1;
    for (at, number) in to.iter_mut().enumerate() {
        let bit = at * width as usize;
        let eight: [u8; 8] = room[bit / 8..bit / 8 + 8].try_into().ok()?;
        *number = (u64::from_le_bytes(eight) >> (bit % 8) & mask) as u32;
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_was_packed_is_read(numbers in prop::collection::vec(any::<u32>(), 0..=128), shift in 0_u32..32) {
            let numbers: Vec<u32> = numbers.into_iter().map(|number| number >> shift).collect();
            let (width, mut bytes) = (width(&numbers), Vec::new());
            pack(&numbers, width, &mut bytes);
            prop_assert_eq!(bytes.len(), packed_length(numbers.len(), width));
            let mut read = vec![7; numbers.len()];
            unpack(&bytes, width, &mut read).expect("all is there");
            prop_assert_eq!(&read, &numbers);
            if !bytes.is_empty() {
                prop_assert!(unpack(&bytes[1..], width, &mut read).is_none());
            }
        }
    }
}
