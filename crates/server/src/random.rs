//! Names that nobody can guess.

/// Returns 128 random bits as hexadecimal digits.
pub(crate) fn unguessable() -> String {
    let mut bytes = [0_u8; 16];
    if getrandom::fill(&mut bytes).is_err() {
        // A system without randomness gives no names.
        return String::new();
    }
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
