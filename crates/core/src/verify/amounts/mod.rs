//! The amounts of a text: numbers in figures and in words, with units, shares, and times of day; and how two of them compare.

mod clocks;
mod compare;
mod days;
mod figured;
mod shares;

use crate::document::Span;
use crate::quantity::{Dimension, Notation, numbers};
use crate::text::{fold, is_listed, words};

use super::vocabulary::ABOUT;
use clocks::clocks;
use days::days;
use figured::figured;
pub(in crate::verify) use figured::is_number_word;
use shares::shares;

/// What an amount measures.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Measure {
    /// A number without a unit, such as a count or a year.
    Count,
    /// A quantity with a unit, in the base unit of its dimension.
    Of(Dimension),
    /// A time of day, in minutes. `is_open` if it may be of the morning or of the afternoon.
    Clock { is_open: bool },
    /// A day, a month of a year, or a day of any year.
    Date { year: Option<u32>, month: u32, day: Option<u32> },
}

/// On which side of the number the amount may lie.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Side {
    /// It is the number.
    At,
    /// It is the number, more or less.
    Near,
    /// It is the number or more.
    From,
    /// It is the number or less.
    UpTo,
}

/// An amount in a text.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Amount {
    /// Where it stands, with its unit.
    pub span: Span,
    /// Its value in base units.
    pub value: f64,
    /// The number as it is written.
    pub raw: f64,
    pub measure: Measure,
    pub side: Side,
    /// The factor of its unit; 1 without.
    pub factor: f64,
    /// Whether it is by how much something changes or differs: 40 centimetres higher.
    pub is_change: bool,
    /// Whether no noun follows that it counts: `and 8 without`.
    pub is_bare: bool,
    /// Whether it is named only as what no longer holds, or does not: instead of the 8.4 metres.
    pub is_replaced: bool,
}

impl Amount {
    /// Creates an amount that is its number. What the words around it say is filled in later.
    fn new(span: Span, raw: f64, measure: Measure, factor: f64) -> Self {
        let [is_change, is_bare, is_replaced] = [false; 3];
        Self { span, value: raw * factor, raw, measure, side: Side::At, factor, is_change, is_bare, is_replaced }
    }
}

/// How an amount of a claim stands to one of its source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Fit {
    /// They are the same.
    Same,
    /// The source's bound or range holds for it.
    Within,
    /// It lies on the other side of the source's bound.
    Outside,
    /// They are bounds of the same number on opposite sides.
    Opposite,
    /// They measure the same thing and differ.
    Differs,
    /// They cannot be compared.
    Apart,
}

/// Returns the amounts of a text in order. Costs a pass over its words.
pub(super) fn amounts(text: &str) -> Vec<Amount> {
    let figured = figured(text);
    let plain = figured.text.as_str();
    let mut found = clocks(plain);
    found.extend(days(plain));
    let mut taken: Vec<Span> = found.iter().map(|amount| amount.span).collect();
    for amount in shares(plain) {
        if !taken.iter().any(|span| overlap(*span, amount.span)) {
            taken.push(amount.span);
            found.push(amount);
        }
    }
    for number in numbers(plain, Notation::Point) {
        if taken.iter().any(|span| overlap(*span, number.span)) {
            continue;
        }
        let unit = number.unit;
        let end = unit_end(plain, number.span.end, unit.is_some());
        let factor = unit.as_ref().map_or(1.0, |unit| unit.factor);
        let measure = unit.map_or(Measure::Count, |unit| Measure::Of(unit.dimension));
        found.push(Amount::new(Span::new(number.span.start, end), number.value, measure, factor));
    }
    // A range takes its unit from its end: between 60 and 90 kilometres.
    found.sort_by_key(|amount| amount.span.start);
    for at in (1..found.len()).rev() {
        let between = plain.get(found[at - 1].span.end..found[at].span.start).unwrap_or_default().trim();
        if found[at - 1].measure == Measure::Count && ["and", "to", "or", "–", "-"].contains(&between) {
            let (measure, factor) = (found[at].measure.clone(), found[at].factor);
            let before = &mut found[at - 1];
            match measure {
                Measure::Of(_) => {
                    (before.value, before.measure, before.factor) = (before.raw * factor, measure, factor);
                }
                Measure::Date { year, month, day: Some(_) } if before.raw <= 31.0 && before.raw.fract() == 0.0 => {
                    (before.value, before.measure) = (0.0, Measure::Date { year, month, day: Some(before.raw as u32) });
                }
                // Between 14 and 19 o'clock.
                Measure::Clock { .. } if before.raw <= 24.0 && before.raw.fract() == 0.0 => {
                    (before.value, before.measure) =
                        (before.raw * 60.0, Measure::Clock { is_open: before.raw <= 12.0 });
                }
                _ => {}
            }
        }
    }
    // The number of a paragraph, in round brackets, is none of what it says.
    let is_item = |span: Span| plain[..span.start].ends_with('(') && plain[span.end..].starts_with(')');
    found.retain(|amount| amount.measure != Measure::Count || !is_item(amount.span));
    joined(&mut found, plain);
    inherit_units(&mut found, plain);
    for amount in &mut found {
        amount.side = side(plain, amount.span);
        let next = words(&plain[amount.span.end..]).next().map(|word| fold(word.text)).unwrap_or_default();
        amount.is_bare = is_bare(plain, amount.span);
        amount.is_replaced = is_replaced(plain, amount.span);
        amount.is_change = is_listed(
            "higher lower more less fewer longer shorter older younger earlier later thicker thinner deeper wider heavier lighter larger smaller ahead behind",
            &next,
        );
        amount.span = figured.original(amount.span);
    }
    found
}

/// Returns `true` if the words before an amount say that another holds in its place.
fn is_replaced(text: &str, span: Span) -> bool {
    let before = text[..span.start].rsplit(['.', ';', ',']).next().unwrap_or_default();
    let last: Vec<String> = words(before).map(|word| fold(word.text)).collect();
    let last = last.iter().rev().take(4).rev().cloned().collect::<Vec<_>>().join(" ");
    let last = format!(" {last} ");
    ["instead of", "rather than", "in place of", "no longer", "up from", "down from", "replaces", "replacing"]
        .iter()
        .any(|phrase| last.contains(&format!(" {phrase} ")))
}

/// Gives a bare number the unit of the amount before it in its sentence: 14 kilograms with it, and 8 without.
fn inherit_units(found: &mut [Amount], text: &str) {
    use Dimension::{Angle, Length, Mass, Money, Share, Temperature, Volume};
    for at in 1..found.len() {
        let (before, own) = (found[at - 1].clone(), &found[at]);
        let between = text.get(before.span.end..own.span.start).unwrap_or(".");
        let is_unit =
            matches!(before.measure, Measure::Of(Length | Mass | Money(_) | Share | Temperature | Angle | Volume));
        let is_plain =
            own.measure == Measure::Count && is_bare(text, own.span) && !(1_200.0..2_200.0).contains(&own.raw);
        if is_unit && is_plain && before.factor != 0.01 && !between.contains(['.', ';']) {
            let own = &mut found[at];
            (own.value, own.measure, own.factor) = (own.raw * before.factor, before.measure, before.factor);
        }
    }
}

/// Returns `true` for a number behind which no noun stands that it counts.
fn is_bare(text: &str, span: Span) -> bool {
    let rest = &text[span.end..];
    let next = words(rest).next().map(|word| fold(word.text)).unwrap_or_default();
    next.is_empty()
        || crate::text::is_stopword(&next)
        // A dot in the middle of the line stands between the cells of a row.
        || rest.trim_start().starts_with(|c: char| c.is_ascii_punctuation() || c == '·')
}

/// Joins amounts that are one: 8 hours and 25 minutes, an hour and a half.
fn joined(found: &mut Vec<Amount>, text: &str) {
    let mut at = 1;
    while at < found.len() {
        let between = text.get(found[at - 1].span.end..found[at].span.start).unwrap_or_default().trim();
        let (before, own) = (&found[at - 1], &found[at]);
        let is_share = before.measure == Measure::Of(Dimension::Duration)
            && own.measure == Measure::Of(Dimension::Share)
            && own.value < 1.0
            && matches!(between, "and" | "and a")
            && words(&text[own.span.end..]).next().is_none_or(|word| word.text != "of");
        if is_share {
            let own = found.remove(at);
            let before = &mut found[at - 1];
            before.raw += own.value;
            before.value = before.raw * before.factor;
            before.span.end = own.span.end;
            continue;
        }
        let is_part = matches!(before.measure, Measure::Of(Dimension::Duration | Dimension::Length))
            && before.measure == own.measure
            && own.factor < before.factor
            && own.value < before.factor
            && matches!(between, "" | "and");
        if is_part {
            let own = found.remove(at);
            let before = &mut found[at - 1];
            before.value += own.value;
            before.raw = before.value / before.factor;
            before.span.end = own.span.end;
        } else {
            at += 1;
        }
    }
}

fn overlap(a: Span, b: Span) -> bool {
    a.start < b.end && b.start < a.end
}

/// Returns the end of a number with its unit.
fn unit_end(text: &str, end: usize, has_unit: bool) -> usize {
    let rest = &text[end..];
    let lead = rest.len() - rest.trim_start_matches([' ', '\u{a0}', '-']).len();
    let name =
        rest[lead..].find(|c: char| !(c.is_alphanumeric() || "%°²³/€$£".contains(c))).unwrap_or(rest.len() - lead);
    if has_unit && name > 0 { end + lead + name } else { end }
}

/// Returns on which side of its number an amount lies, by the words around it.
fn side(text: &str, span: Span) -> Side {
    let before: Vec<String> = words(&text[..span.start]).map(|word| fold(word.text)).collect();
    let last = |back: usize| before.len().checked_sub(back).map_or("", |at| before[at].as_str());
    let behind: Vec<String> = words(&text[span.end..]).take(3).map(|word| fold(word.text)).collect();
    let next = |at: usize| behind.get(at).map_or("", String::as_str);
    if (next(0) == "or" && is_listed("more over above older longer later higher", next(1)))
        || (next(1) == "or" && is_listed("more over above older longer later higher", next(2)))
    {
        return Side::From;
    }
    if (next(0) == "or" && is_listed("less under below fewer younger earlier lower", next(1)))
        || (next(1) == "or" && is_listed("less under below fewer", next(2)))
    {
        return Side::UpTo;
    }
    let denied = |back: usize| is_listed("no not never", last(back));
    let more = "more over above exceeds exceeding beyond older longer higher greater steeper larger heavier passes";
    let less = "less under below within fewer younger shorter lower smaller nearer closer lighter";
    let side = |is_more: bool, is_denied: bool| if is_more != is_denied { Side::From } else { Side::UpTo };
    match (last(2), last(1)) {
        ("at", "least") => Side::From,
        ("at", "most") | ("up", "to") => Side::UpTo,
        ("minimum", "of") => Side::From,
        ("maximum", "of") => Side::UpTo,
        (word, "than") if is_listed(more, word) => side(true, denied(3)),
        (word, "than") if is_listed(less, word) => side(false, denied(3)),
        (_, word) if is_listed("over above beyond exceeds exceeding passes least", word) => side(true, denied(2)),
        (_, word) if is_listed("under below within", word) => side(false, denied(2)),
        (_, word) if is_listed(ABOUT, word) => Side::Near,
        _ => Side::At,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn only(text: &str) -> Amount {
        let all = amounts(text);
        assert_eq!(all.len(), 1, "{text}: {all:?}");
        all[0].clone()
    }

    #[rstest]
    #[case("thirty metres", "30 m", Fit::Same)]
    #[case("1,800 millilitres", "1.8 litres", Fit::Same)]
    #[case("14 days", "two weeks", Fit::Same)]
    #[case("9 pm", "21:00", Fit::Same)]
    #[case("half past six in the morning", "6:30", Fit::Same)]
    #[case("a quarter past ten in the evening", "22:15", Fit::Same)]
    #[case("5 per cent", "one person in twenty", Fit::Same)]
    #[case("half an hour", "thirty minutes", Fit::Same)]
    #[case("five thousand two hundred", "5,200", Fit::Same)]
    #[case("about 5,200", "5,150", Fit::Same)]
    #[case("17 per cent", "above 15 per cent", Fit::Within)]
    #[case("at least two metres", "at most 2 metres", Fit::Opposite)]
    #[case("no more than 30 metres", "up to 30 metres", Fit::Same)]
    #[case("six weeks", "six months", Fit::Differs)]
    #[case("8.4 m", "7.9 m", Fit::Differs)]
    #[case("8 kg", "8 crowns", Fit::Apart)]
    #[case("8 hours and 25 minutes", "505 minutes", Fit::Same)]
    #[case("31 May", "31 May 2026", Fit::Same)]
    #[case("31 July 2026", "31 July 2027", Fit::Differs)]
    #[case("2 days", "more than three days", Fit::Outside)]
    #[case("five years", "five members", Fit::Apart)]
    #[case("half a centimetre", "5 mm", Fit::Same)]
    #[case("half a million", "500,000", Fit::Same)]
    #[case("nine in the evening", "21:00", Fit::Same)]
    #[case("27 January", "17 January", Fit::Differs)]
    #[case("in 1911", "about 400 people", Fit::Apart)]
    #[case("above 4.5 metres", "above 3.5 metres", Fit::Differs)]
    #[case("an hour and a half", "90 minutes", Fit::Same)]
    #[case("nine and a half hours", "570 minutes", Fit::Same)]
    #[case("two hours and three quarters", "165 minutes", Fit::Same)]
    #[case("a quarter of an hour", "fifteen minutes", Fit::Same)]
    #[case("the half hour", "30 minutes", Fit::Same)]
    #[case("the tenth of January", "10 January", Fit::Same)]
    #[case("three decades", "thirty years", Fit::Same)]
    #[case("In 1978 Hilda Remm gave it", "in 1978", Fit::Same)]
    fn amounts_compare(#[case] claim: &str, #[case] source: &str, #[case] expected: Fit) {
        assert_eq!(only(claim).against(&only(source)), expected);
    }

    #[rstest]
    #[case("31 metres", "from 82 to 51 metres", true)]
    #[case("8 hours and 25 minutes", "leaves at 22:15 and arrives at 6:40", true)]
    #[case("6 kilograms", "14 kilograms with the mount, and 8 without", true)]
    #[case("19 crowns", "38 crowns, and half of that", true)]
    #[case("25 years", "from 1922 to 1947", true)]
    #[case("6 days", "nine days, three more than planned", true)]
    #[case("255", "340 trees, three quarters of them apples", true)]
    #[case("17,400 crowns", "1,450 crowns monthly", true)]
    #[case("eight hours", "begins at six and ends at two in the afternoon", true)]
    #[case("five hours", "between 14 and 19 o'clock", true)]
    #[case("six hours", "between 14 and 19 o'clock", false)]
    #[case("about 250 years", "from 1640 until 1893", true)]
    #[case("less than fifty years", "from 1912 until 1959", true)]
    #[case("less than forty years", "from 1912 until 1959", false)]
    #[case("20 crowns", "38 crowns, and half of that", false)]
    fn amounts_follow_from_others(#[case] claim: &str, #[case] source: &str, #[case] expected: bool) {
        assert_eq!(amounts(claim)[0].follows_from(&amounts(source), true), expected);
    }

    #[test]
    fn places_are_those_of_the_given_text() {
        let text = "It costs twenty-two crowns, or 3 crowns for half an hour.";
        let found: Vec<&str> = amounts(text).iter().map(|amount| &text[amount.span.range()]).collect();
        assert_eq!(found, ["twenty-two crowns", "3 crowns", "half an hour"]);
    }
}
