//! English words whose forms no stemmer joins.

use std::collections::HashMap;
use std::sync::LazyLock;

use super::stem;

/// The forms of irregular verbs and nouns, the base form first. A form that is a common word of its own is left out, such as `found`, `left` and `saw`.
const FORMS: &[&str] = &[
    "arise arose arisen",
    "bear borne",
    "beat beaten",
    "become became",
    "begin began begun",
    "bend bent",
    "bite bitten",
    "blow blew blown",
    "break broke broken",
    "bring brought",
    "build built",
    "burn burnt",
    "buy bought",
    "catch caught",
    "child children",
    "choose chose chosen",
    "come came",
    "creep crept",
    "deal dealt",
    "die dying",
    "dig dug",
    "draw drew drawn",
    "drink drank drunk",
    "drive drove driven",
    "eat ate eaten",
    "fall fallen",
    "feed fed",
    "fight fought",
    "fly flew flown flies flying",
    "foot feet",
    "forbid forbade forbidden",
    "forget forgot forgotten",
    "freeze froze frozen",
    "get got gotten",
    "give gave given",
    "go went gone",
    "grow grew grown",
    "hang hung",
    "hear heard",
    "hide hid hidden",
    "hold held",
    "keep kept",
    "know knew known",
    "lay laid",
    "lead led",
    "leaf leaves",
    "learn learnt",
    "lend lent",
    "lose lost",
    "make made",
    "man men",
    "mean meant",
    "meet met",
    "mouse mice",
    "pay paid",
    "person people",
    "ride rode ridden",
    "rise rose risen",
    "ring rang rung",
    "run ran",
    "say said",
    "seek sought",
    "sell sold",
    "send sent",
    "shake shook shaken",
    "shine shone",
    "show shown",
    "shrink shrank shrunk",
    "sing sang sung",
    "sink sank sunk",
    "sit sat",
    "sleep slept",
    "speak spoke spoken",
    "spend spent",
    "spoil spoilt",
    "stand stood",
    "steal stole stolen",
    "stick stuck",
    "strike struck stricken",
    "swear swore sworn",
    "sweep swept",
    "swim swam swum",
    "swing swung",
    "take took taken",
    "teach taught",
    "tear tore torn",
    "tell told",
    "think thought",
    "throw threw thrown",
    "tooth teeth",
    "wake woke woken",
    "wear wore worn",
    "weave wove woven",
    "win won",
    "wife wives",
    "withdraw withdrew withdrawn",
    "woman women",
    "write wrote written",
];

/// Returns the terms of all forms of an irregular English word, folded; none for other words. The first is that of its base form.
pub fn irregular_terms(folded: &str) -> impl Iterator<Item = String> {
    static LINES: LazyLock<HashMap<&str, &str>> =
        LazyLock::new(|| FORMS.iter().flat_map(|line| line.split(' ').map(|form| (form, *line))).collect());
    LINES.get(folded).copied().unwrap_or_default().split_whitespace().map(stem)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_form_belongs_to_two_words() {
        let mut seen = std::collections::HashSet::new();
        for form in FORMS.iter().flat_map(|forms| forms.split(' ')) {
            assert!(seen.insert(form), "{form}");
            assert!(irregular_terms(form).next().is_some());
        }
        assert!(irregular_terms("flown").any(|term| term == stem("fly")));
        assert_eq!(irregular_terms("berth").count(), 0);
    }
}
