//! The models that come with the library.

use std::sync::LazyLock;

use super::Linear;

/// Returns the model that was fitted to the dev halves of the question sets of `bench/sets`: with `tokens`, to corpora that have an index
/// of tokens, else to corpora that have none.
pub fn learned(tokens: bool) -> &'static Linear {
    static PLAIN: LazyLock<Linear> = LazyLock::new(|| Linear::read(include_str!("learned.json")).unwrap_or_default());
    static WITH_TOKENS: LazyLock<Linear> =
        LazyLock::new(|| Linear::read(include_str!("learned_tokens.json")).unwrap_or_default());
    if tokens { &WITH_TOKENS } else { &PLAIN }
}
