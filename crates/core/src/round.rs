//! Rounding of numbers that are printed or written as JSON.

use serde::Serializer;

/// Rounds a score to six decimals, since an `f32` holds no more.
pub fn round_score(score: f32) -> f64 {
    (f64::from(score) * 1e6).round() / 1e6
}

/// Rounds milliseconds to microseconds.
pub fn round_milliseconds(milliseconds: f64) -> f64 {
    (milliseconds * 1e3).round() / 1e3
}

/// Serialises a score as [`round_score`] returns it.
#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
pub(crate) fn serialize_score<S: Serializer>(score: &f32, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_f64(round_score(*score))
}

/// Serialises milliseconds as [`round_milliseconds`] returns them.
#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
pub(crate) fn serialize_milliseconds<S: Serializer>(value: &f64, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_f64(round_milliseconds(*value))
}

/// Serialises a score that may be missing.
#[allow(clippy::ref_option, clippy::trivially_copy_pass_by_ref)] // the signature that serde asks for
pub(crate) fn serialize_some_score<S: Serializer>(score: &Option<f32>, serializer: S) -> Result<S::Ok, S::Error> {
    match score {
        Some(score) => serialize_score(score, serializer),
        None => serializer.serialize_none(),
    }
}
