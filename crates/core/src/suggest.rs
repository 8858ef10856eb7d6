//! Suggestions for names that were probably mistyped.

/// Returns the candidate most similar to `name`; `None` if that one is too different to be a typing error.
///
/// The distance is that of Damerau (1964) and Levenshtein (1966), ignoring case.
pub fn closest(name: &str, candidates: impl Iterator<Item = String>) -> Option<String> {
    let folded = name.to_lowercase();
    candidates
        .map(|candidate| (strsim::damerau_levenshtein(&folded, &candidate.to_lowercase()), candidate))
        .filter(|(distance, candidate)| *distance <= (candidate.chars().count().max(name.chars().count()) / 3).max(1))
        .min()
        .map(|(_, candidate)| candidate)
}
