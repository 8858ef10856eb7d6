//! Markers of sources in replies, in any common style, brought to one: `[2]`.

/// Takes the place of `[` in code, where `[1]` cites nothing. Unicode reserves this sign for use inside programs, so no reply should have it.
const BRACKET_IN_CODE: char = '\u{fdd0}';

/// Returns text with the brackets that [`canonical`] has put aside.
pub(super) fn restored(text: &str) -> String {
    text.replace(BRACKET_IN_CODE, "[")
}

/// Returns a reply in which every marker is written as `[2]`, one number each. Recognised are `[2]`, `[^2]`, `[1, 3]`, `[1–3]`,
/// `[passage 2]`, `(see passage 2)`, `【2】` and raised figures behind a word. A number alone in round brackets is no marker, because
/// documents number their paragraphs like that. Code between marked lines or back-ticks has no markers;
/// [`restored`] gives it its brackets back.
pub(super) fn canonical(reply: &str) -> String {
    let reply = reply.replace(BRACKET_IN_CODE, "\u{fffd}");
    let mut out = String::with_capacity(reply.len());
    let mut rest = reply.as_str();
    while let Some(sign) = rest.chars().next() {
        let taken = match sign {
            '`' => code(rest),
            '[' => bracketed(rest, ']', false),
            '【' => bracketed(rest, '】', false),
            '(' => bracketed(rest, ')', true),
            sign if raised(sign).is_some()
                && out.ends_with(|c: char| c.is_alphabetic() || ".,;:!?”’\")".contains(c)) =>
            {
                let figures: String = rest.chars().map_while(raised).collect();
                // A power such as m² is no marker.
                let is_unit = out
                    .trim_end_matches(|c: char| c.is_alphabetic())
                    .ends_with(|c: char| c.is_ascii_digit() || c == ' ')
                    && out
                        .rsplit(|c: char| !c.is_alphabetic())
                        .next()
                        .is_some_and(|word| (1..=2).contains(&word.chars().count()));
                let length = rest.chars().map_while(|c| raised(c).map(|_| c.len_utf8())).sum();
                (!is_unit).then(|| (format!("[{figures}]"), length))
            }
            _ => None,
        };
        let (text, length) = taken.unwrap_or_else(|| (sign.to_string(), sign.len_utf8()));
        out.push_str(&text);
        rest = &rest[length..];
    }
    out
}

/// Returns code at the start of a text, with its brackets put aside.
fn code(text: &str) -> Option<(String, usize)> {
    let ticks = text.len() - text.trim_start_matches('`').len();
    let fence = &text[..ticks];
    let length = text[ticks..].find(fence).map_or(text.len(), |at| at + 2 * ticks);
    Some((text[..length].replace('[', &BRACKET_IN_CODE.to_string()), length))
}

fn markers(numbers: &[usize]) -> String {
    numbers.iter().map(|number| format!("[{number}]")).collect()
}

/// Returns the markers for the numbers in brackets at the start of a text, and the length of the brackets. If `named` is set, a word must
/// say that they are numbers of sources.
fn bracketed(text: &str, close: char, named: bool) -> Option<(String, usize)> {
    /// Words that models put before the number.
    const WORDS: [&str; 9] =
        ["passages", "passage", "sources", "source", "refs", "ref", "documents", "document", "doc"];
    let open = text.chars().next()?.len_utf8();
    let end = text.find(close).filter(|end| *end < 40)?;
    // Some models put the kind of source behind a dagger.
    let inner = text[open..end].split('†').next().unwrap_or_default().trim().trim_start_matches('^');
    let lower = inner.to_ascii_lowercase();
    let lower = lower.strip_prefix("see ").unwrap_or(&lower);
    let word = WORDS.iter().find(|word| lower.starts_with(**word)).map_or(0, |word| word.len());
    if named && word == 0 {
        return None;
    }
    let inner = lower[word..].trim_start_matches([' ', '.', ':', '#']);
    let mut numbers = Vec::new();
    for part in inner.split([',', ';', '&']).flat_map(|part| part.split(" and ")) {
        let part = part.trim().trim_start_matches('^');
        match part.split_once(['-', '–']) {
            Some((first, last)) => {
                let (first, last): (usize, usize) = (first.trim().parse().ok()?, last.trim().parse().ok()?);
                numbers.extend((first..=last).take(20));
            }
            None => numbers.push(part.parse().ok().filter(|_| part.len() <= 3)?),
        }
    }
    let follows_link = text[end + close.len_utf8()..].starts_with('(');
    (!numbers.is_empty() && !follows_link).then(|| (markers(&numbers), end + close.len_utf8()))
}

/// Returns the figure of a raised figure.
fn raised(sign: char) -> Option<char> {
    const RAISED: &str = "⁰¹²³⁴⁵⁶⁷⁸⁹";
    let place = RAISED.chars().position(|raised| raised == sign)?;
    char::from_digit(place as u32, 10)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("It is deep [2].", "It is deep [2].")]
    #[case("It is deep [1, 3] and wide [2–4].", "It is deep [1][3] and wide [2][3][4].")]
    #[case("It is deep [Passage 2]. [^3] 【4†source】", "It is deep [2]. [3] [4]")]
    #[case("It is deep (see passages 1 and 3). (Source: 2)", "It is deep [1][3]. [2]")]
    #[case("(1) It is deep (2), in article (4) (source Orla).", "(1) It is deep (2), in article (4) (source Orla).")]
    #[case("It is deep.¹² Wide³", "It is deep.[12] Wide[3]")]
    #[case("It has 12 m² and 3 km².", "It has 12 m² and 3 km².")]
    #[case("See [the notice] and [1](http://quay.test).", "See [the notice] and [1](http://quay.test).")]
    #[case("`a[1]` and\n```\nb[2]\n```\n[3]", "`a[1]` and\n```\nb[2]\n```\n[3]")]
    #[case("[2026] [x] [", "[2026] [x] [")]
    fn styles_become_one(#[case] reply: &str, #[case] expected: &str) {
        assert_eq!(restored(&canonical(reply)), expected);
    }

    proptest! {
        #[test]
        fn any_reply_is_read(reply in "([a-z ]|\\[|\\]|[0-9]|[,^–`]|【|】|¹|\\PC){0,60}") {
            let once = canonical(&reply);
            prop_assert!(once.len() >= reply.len().saturating_sub(60 * 4) || !once.is_empty());
        }
    }
}
