//! English words that carry grammar rather than meaning.

/// Sorted, so that it can be searched by halves.
const FUNCTION_WORDS: &[&str] = &[
    "a", "about", "above", "after", "again", "all", "also", "am", "an", "and", "any", "anyone", "are", "as", "at", "be",
    "because", "been", "before", "being", "below", "between", "both", "but", "by", "can", "could", "did", "do", "does",
    "doing", "done", "down", "during", "each", "either", "every", "for", "from", "further", "get", "give", "given",
    "go", "got", "had", "has", "have", "having", "he", "her", "here", "hers", "him", "his", "how", "i", "if", "in",
    "into", "is", "it", "its", "just", "kind", "let", "like", "many", "may", "me", "might", "more", "most", "much",
    "must", "my", "neither", "no", "nor", "not", "now", "of", "off", "on", "once", "one", "only", "or", "other",
    "ought", "our", "ours", "out", "over", "own", "please", "right", "same", "shall", "she", "should", "so", "some",
    "somebody", "someone", "something", "sort", "such", "tell", "than", "that", "the", "their", "theirs", "them",
    "then", "there", "these", "they", "this", "those", "through", "to", "too", "under", "until", "up", "upon", "us",
    "very", "was", "we", "were", "what", "when", "where", "whether", "which", "while", "who", "whom", "whose", "why",
    "will", "with", "within", "without", "would", "you", "your", "yours",
];

/// Whether a folded word carries grammar rather than meaning, such as `the` or `which`. English only.
pub fn is_function_word(folded: &str) -> bool {
    FUNCTION_WORDS.binary_search(&folded).is_ok()
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_list_is_sorted() {
        assert!(super::FUNCTION_WORDS.is_sorted());
        assert!(super::is_function_word("which"));
        assert!(!super::is_function_word("harbour"));
    }
}
