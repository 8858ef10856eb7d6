//! Abbreviations, whose full stop may not end a sentence.

/// The behaviour of an abbreviation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Precedes a name: `Capt.`
    Title,
    /// Occurs inside a sentence: `e.g.`
    Inner,
    /// Precedes a number or a letter: `Art.`
    Reference,
    /// Follows the name of a firm, and precedes another such word: `Co. Ltd.`
    Company,
    /// A unit after a number: the sentence continues before another number.
    Measure,
    /// A month or a day, with a capital: the sentence continues before a number.
    Calendar,
    /// Ends a sentence if another begins after it: `etc.`
    Closing,
}

/// Sorted, lower case, without the last full stop.
const WORDS: &[(&str, Kind)] = &[
    ("abb", Kind::Reference),
    ("abs", Kind::Reference),
    ("anm", Kind::Reference),
    ("app", Kind::Reference),
    ("approx", Kind::Inner),
    ("apr", Kind::Calendar),
    ("art", Kind::Reference),
    ("aug", Kind::Calendar),
    ("avv", Kind::Title),
    ("bd", Kind::Reference),
    ("bros", Kind::Company),
    ("bzw", Kind::Inner),
    ("ca", Kind::Inner),
    ("cap", Kind::Reference),
    ("capt", Kind::Title),
    ("cf", Kind::Inner),
    ("ch", Kind::Reference),
    ("chas", Kind::Title),
    ("cl", Kind::Reference),
    ("cmdr", Kind::Title),
    ("co", Kind::Company),
    ("col", Kind::Title),
    ("dec", Kind::Calendar),
    ("dhr", Kind::Title),
    ("dott", Kind::Title),
    ("dr", Kind::Title),
    ("e.g", Kind::Inner),
    ("eg", Kind::Inner),
    ("eq", Kind::Reference),
    ("esp", Kind::Inner),
    ("evtl", Kind::Inner),
    ("excl", Kind::Inner),
    ("ext", Kind::Reference),
    ("feb", Kind::Calendar),
    ("fig", Kind::Reference),
    ("figs", Kind::Reference),
    ("fr", Kind::Title),
    ("fri", Kind::Calendar),
    ("ft", Kind::Measure),
    ("gem", Kind::Inner),
    ("gen", Kind::Title),
    ("geo", Kind::Title),
    ("ggf", Kind::Inner),
    ("hon", Kind::Title),
    ("hr", Kind::Measure),
    ("hrs", Kind::Measure),
    ("i.e", Kind::Inner),
    ("ie", Kind::Inner),
    ("in", Kind::Measure),
    ("inc", Kind::Company),
    ("incl", Kind::Inner),
    ("ing", Kind::Title),
    ("jan", Kind::Calendar),
    ("jas", Kind::Title),
    ("jos", Kind::Title),
    ("jul", Kind::Calendar),
    ("jun", Kind::Calendar),
    ("lt", Kind::Title),
    ("ltd", Kind::Company),
    ("m", Kind::Measure),
    ("mar", Kind::Calendar),
    ("max", Kind::Inner),
    ("messrs", Kind::Title),
    ("mevr", Kind::Title),
    ("min", Kind::Inner),
    ("mio", Kind::Inner),
    ("mlle", Kind::Title),
    ("mme", Kind::Title),
    ("mon", Kind::Calendar),
    ("mr", Kind::Title),
    ("mrs", Kind::Title),
    ("ms", Kind::Title),
    ("mt", Kind::Title),
    ("mw", Kind::Title),
    ("no", Kind::Reference),
    ("nos", Kind::Reference),
    ("nov", Kind::Calendar),
    ("nr", Kind::Reference),
    ("núm", Kind::Reference),
    ("oct", Kind::Calendar),
    ("op", Kind::Inner),
    ("p", Kind::Reference),
    ("para", Kind::Reference),
    ("paras", Kind::Reference),
    ("plc", Kind::Company),
    ("pp", Kind::Reference),
    ("prof", Kind::Title),
    ("pt", Kind::Reference),
    ("ref", Kind::Reference),
    ("reg", Kind::Reference),
    ("regs", Kind::Reference),
    ("resp", Kind::Inner),
    ("rev", Kind::Title),
    ("robt", Kind::Title),
    ("sat", Kind::Calendar),
    ("sch", Kind::Reference),
    ("sec", Kind::Reference),
    ("sect", Kind::Reference),
    ("sep", Kind::Calendar),
    ("sept", Kind::Calendar),
    ("sgt", Kind::Title),
    ("sig", Kind::Title),
    ("sra", Kind::Title),
    ("srta", Kind::Title),
    ("ss", Kind::Reference),
    ("st", Kind::Title),
    ("subs", Kind::Reference),
    ("sun", Kind::Calendar),
    ("t", Kind::Measure),
    ("tab", Kind::Reference),
    ("tel", Kind::Reference),
    ("thos", Kind::Title),
    ("thurs", Kind::Calendar),
    ("tues", Kind::Calendar),
    ("u.s.w", Kind::Closing),
    ("usw", Kind::Closing),
    ("vgl", Kind::Inner),
    ("viz", Kind::Inner),
    ("vol", Kind::Reference),
    ("vols", Kind::Reference),
    ("vs", Kind::Inner),
    ("wed", Kind::Calendar),
    ("wm", Kind::Title),
    ("z.b", Kind::Inner),
    ("zzgl", Kind::Inner),
    ("др", Kind::Title),
    ("им", Kind::Title),
    ("проф", Kind::Title),
    ("рис", Kind::Reference),
    ("см", Kind::Inner),
    ("стр", Kind::Reference),
    ("т.е", Kind::Inner),
    ("ул", Kind::Title),
];

/// Returns the behaviour of a word with a full stop.
pub(super) fn kind_of(word: &str) -> Option<Kind> {
    // Longer words are never abbreviations; most words are longer.
    if word.is_empty() || word.len() > 12 {
        return None;
    }
    match word {
        // `Ft.` as in fort, `M.` as in monsieur, `v.` as in a case, `ca.` as in circa.
        "Ft" | "M" | "Sr" | "D" | "г" => return Some(Kind::Title),
        "v" | "c" => return Some(Kind::Inner),
        "S" | "s" | "с" => return Some(Kind::Reference),
        "etc" | "sr" | "sen" | "jr" | "Jr" => return Some(Kind::Closing),
        _ => {}
    }
    let folded = word.to_lowercase();
    WORDS.binary_search_by(|(known, _)| (*known).cmp(&folded)).ok().map(|at| WORDS[at].1)
}

/// Returns `true` if a word is a month in a language that writes the day before it as an ordinal with a full stop.
pub(super) fn is_ordinal_month(word: &str) -> bool {
    const MONTHS: &[&str] = &[
        "Januar",
        "Jänner",
        "Februar",
        "März",
        "April",
        "Mai",
        "Juni",
        "Juli",
        "August",
        "September",
        "Oktober",
        "November",
        "Dezember",
    ];
    MONTHS.contains(&word.trim_end_matches(|c: char| !c.is_alphabetic()))
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_list_is_sorted() {
        assert!(super::WORDS.is_sorted_by(|a, b| a.0 < b.0));
    }
}
