//! The amounts of a text: numbers in figures and in words, with units, shares, and times of day; and how two of them compare.

use crate::document::Span;
use crate::quantity::{Dimension, Notation, Unit, numbers};
use crate::text::{fold, is_listed, words};

use super::vocabulary::ABOUT;

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

const UNITS: [&str; 20] = [
    "zero",
    "one",
    "two",
    "three",
    "four",
    "five",
    "six",
    "seven",
    "eight",
    "nine",
    "ten",
    "eleven",
    "twelve",
    "thirteen",
    "fourteen",
    "fifteen",
    "sixteen",
    "seventeen",
    "eighteen",
    "nineteen",
];
const TENS: [&str; 10] = ["", "", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"];
const FRACTIONS: [(&str, f64); 8] = [
    ("half", 0.5),
    ("third", 1.0 / 3.0),
    ("quarter", 0.25),
    ("fifth", 0.2),
    ("tenth", 0.1),
    ("thirds", 2.0 / 3.0),
    ("quarters", 0.75),
    ("halves", 0.5),
];

/// A text in which numbers in words are written in figures, and where its parts stood.
struct Figured {
    text: String,
    /// The start in `text` and the place in the given text of each word that was replaced, in order.
    replaced: Vec<(Span, Span)>,
}

impl Figured {
    /// Returns the place in the given text of a place in this one.
    fn original(&self, span: Span) -> Span {
        Span::new(self.position(span.start, false), self.position(span.end, true))
    }

    fn position(&self, at: usize, is_end: bool) -> usize {
        let mut shift = 0_isize;
        for (new, old) in &self.replaced {
            if at < new.start || (at == new.start && is_end) {
                break;
            }
            if at < new.end || (at == new.end && is_end) {
                return if is_end { old.end } else { old.start };
            }
            shift = old.end as isize - new.end as isize;
        }
        (at as isize + shift).max(0) as usize
    }
}

/// Returns `true` for a number word, such as `eleven`.
pub(super) fn is_number_word(word: &str) -> bool {
    small(word).is_some() || matches!(word, "hundred" | "thousand" | "million")
}

/// Returns the value of a number word below a hundred.
fn small(word: &str) -> Option<f64> {
    let of = |list: &[&str]| list.iter().position(|known| *known == word);
    of(&UNITS).map(|at| at as f64).or_else(|| of(&TENS).filter(|at| *at > 1).map(|at| at as f64 * 10.0)).or(
        match word {
            "dozen" => Some(12.0),
            "twice" | "double" | "doubled" | "both" => Some(2.0),
            "thrice" => Some(3.0),
            _ => None,
        },
    )
}

/// Returns `true` for what is weighed or measured out.
fn is_weighed(dimension: &Dimension) -> bool {
    matches!(dimension, Dimension::Length | Dimension::Volume | Dimension::Mass)
}

fn figured(text: &str) -> Figured {
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let mut figured = Figured { text: String::with_capacity(text.len()), replaced: Vec::new() };
    let (mut at, mut copied) = (0, 0);
    while at < all.len() {
        let Some((value, count)) = number_in_words(text, &all[at..]) else {
            at += 1;
            continue;
        };
        let old = Span::new(all[at].0.start, all[at + count - 1].0.end);
        figured.text.push_str(&text[copied..old.start]);
        let start = figured.text.len();
        figured.text.push_str(&format!("{value}"));
        figured.replaced.push((Span::new(start, figured.text.len()), old));
        (copied, at) = (old.end, at + count);
    }
    figured.text.push_str(&text[copied..]);
    figured
}

/// Returns the number that some words begin with, and of how many words it is. A lone `one` is none.
fn number_in_words(text: &str, all: &[(Span, String)]) -> Option<(f64, usize)> {
    let word = |at: usize| all.get(at).map(|(_, word)| word.as_str());
    let joined = |at: usize| {
        let between = &text[all[at - 1].0.end..all[at].0.start];
        between == "-" || between == " " || between == "\u{2011}"
    };
    // A figure before `million` counts as well: 2 million.
    let first = word(0)?;
    let scaled = |at: usize| match word(at) {
        Some("hundred") => Some(100.0),
        Some("thousand") => Some(1_000.0),
        Some("million" | "millions") => Some(1e6),
        Some("billion") => Some(1e9),
        _ => None,
    };
    let mut count = 1;
    let mut value = match first {
        // `Half a million` and `half a centimetre` are shares of these.
        "half" if matches!(word(1), Some("a" | "an")) && scaled(2).is_some() => {
            return Some((0.5 * scaled(2)?, 3));
        }
        "half" if matches!(word(1), Some("a" | "an")) => {
            let unit = word(2).filter(|unit| unit.len() > 2).and_then(Unit::named)?;
            return is_weighed(&unit.dimension).then_some((0.5, 2));
        }
        "a" | "an" if scaled(1).is_some() || word(1) == Some("dozen") => 1.0,
        // A litre is an amount; a day in `twice a day` is none.
        "every" | "each"
            if word(1).is_some_and(|next| {
                next.len() > 2 && Unit::named(next).is_some_and(|unit| unit.dimension == Dimension::Duration)
            }) =>
        {
            return Some((1.0, 1));
        }
        "a" | "an"
            if word(1).is_some_and(|next| {
                next.len() > 2 && Unit::named(next).is_some_and(|unit| is_weighed(&unit.dimension))
            }) =>
        {
            return Some((1.0, 1));
        }
        _ if first.starts_with(|c: char| c.is_ascii_digit()) => {
            scaled(1)?;
            first.replace(',', "").parse().ok()?
        }
        _ => small(first)?,
    };
    let tens = (20.0..100.0).contains(&value) && TENS.contains(&first);
    if tens && let Some(unit) = word(1).and_then(small).filter(|unit| *unit > 0.0 && *unit < 10.0 && joined(1)) {
        (value, count) = (value + unit, 2);
    }
    if word(1) == Some("dozen") && matches!(first, "a" | "an") {
        return Some((12.0, 2));
    }
    while let Some(scale) = scaled(count).filter(|_| joined(count)) {
        (value, count) = (value * scale, count + 1);
        let rest = usize::from(word(count) == Some("and"));
        if let Some((more, taken)) = word(count + rest).and_then(|_| number_in_words(text, &all[count + rest..]))
            && more < scale
            && joined(count)
        {
            (value, count) = (value + more, count + rest + taken);
        }
    }
    let lone_one = first == "one" && count == 1;
    let lone_two = first == "both";
    (!lone_one || word(1).is_some_and(|next| Unit::named(next).is_some())).then_some(())?;
    (!lone_two).then_some((value, count))
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
        found.push(Amount {
            span: Span::new(number.span.start, end),
            value: number.value * factor,
            raw: number.value,
            measure: unit.map_or(Measure::Count, |unit| Measure::Of(unit.dimension)),
            side: Side::At,
            factor,
            is_change: false,
            is_bare: false,
            is_replaced: false,
        });
    }
    // A range takes its unit from its end: between 60 and 90 kilometres.
    found.sort_by_key(|amount| amount.span.start);
    for at in (1..found.len()).rev() {
        let between = plain.get(found[at - 1].span.end..found[at].span.start).unwrap_or_default().trim();
        if found[at - 1].measure == Measure::Count && ["and", "to", "or", "–", "-"].contains(&between) {
            let (measure, factor) = (found[at].measure.clone(), found[at].factor);
            if let Measure::Of(_) = measure {
                let before = &mut found[at - 1];
                (before.value, before.measure, before.factor) = (before.raw * factor, measure, factor);
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
        || rest.trim_start().starts_with(|c: char| c.is_ascii_punctuation())
}

/// Joins amounts that are one: 8 hours and 25 minutes.
fn joined(found: &mut Vec<Amount>, text: &str) {
    let mut at = 1;
    while at < found.len() {
        let between = text.get(found[at - 1].span.end..found[at].span.start).unwrap_or_default().trim();
        let (before, own) = (&found[at - 1], &found[at]);
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

/// Returns the days of a text, with or without a year: `12 January 2026`, `1 May`, `May 2026`, `March 3`.
fn days(text: &str) -> Vec<Amount> {
    const MONTHS: &str = "january february march april may june july august september october november december";
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let number = |at: Option<usize>, digits: usize| {
        let (_, word) = all.get(at?)?;
        let bare = ["st", "nd", "rd", "th"].iter().find_map(|end| word.strip_suffix(end)).unwrap_or(word);
        (bare.len() <= digits && digits > 2 && bare.len() == digits || digits == 2 && bare.len() <= 2)
            .then(|| bare.parse::<u32>().ok())?
    };
    let mut found = Vec::new();
    for at in 0..all.len() {
        // The month of May begins with a capital, and so does March.
        let written = text[all[at].0.range()].starts_with(char::is_uppercase);
        let Some(month) = MONTHS.split(' ').position(|month| month == all[at].1).filter(|_| written) else { continue };
        let of = at.checked_sub(1).filter(|before| all[*before].1 == "of");
        let before = of.unwrap_or(at).checked_sub(1);
        let day_before = number(before, 2).filter(|day| (1..=31).contains(day));
        let day_after = number(Some(at + 1), 2).filter(|day| (1..=31).contains(day) && day_before.is_none());
        let behind = at + 1 + usize::from(day_after.is_some());
        let year = number(Some(behind), 4);
        let day = day_before.or(day_after);
        let month_alone = day.is_none() && year.is_none();
        if month_alone && matches!(all[at].1.as_str(), "may" | "march") && at == 0 {
            continue;
        }
        let first = if day_before.is_some() { before.unwrap_or(at) } else { at };
        let last = if year.is_some() { behind } else { behind - 1 };
        found.push(Amount {
            span: Span::new(all[first].0.start, all[last].0.end),
            value: 0.0,
            raw: f64::from(year.unwrap_or_default()),
            measure: Measure::Date { year, month: month as u32 + 1, day },
            side: Side::At,
            factor: 1.0,
            is_change: false,
            is_bare: false,
            is_replaced: false,
        });
    }
    found
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

/// Returns the times of day: `22:15`, `9 pm`, `half past six`, `noon`. In `text`, number words are written in figures.
fn clocks(text: &str) -> Vec<Amount> {
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let word = |at: usize| all.get(at).map_or("", |(_, word)| word.as_str());
    let mut found = Vec::new();
    let mut push = |from: usize, to: usize, minutes: f64, is_open: bool| {
        let span = Span::new(all[from].0.start, all[to.min(all.len() - 1)].0.end);
        found.push(Amount {
            span,
            value: minutes,
            raw: minutes,
            measure: Measure::Clock { is_open },
            side: Side::At,
            factor: 1.0,
            is_change: false,
            is_bare: false,
            is_replaced: false,
        });
    };
    let hour =
        |at: usize| word(at).parse::<f64>().ok().filter(|hour| (0.0..=24.0).contains(hour) && hour.fract() == 0.0);
    let of_day = |at: usize| match (word(at), word(at + 1), word(at + 2)) {
        ("am" | "a.m", ..) => Some((0.0, 1)),
        ("pm" | "p.m", ..) => Some((720.0, 1)),
        ("in", "the", "morning") => Some((0.0, 3)),
        ("in", "the", "afternoon" | "evening") => Some((720.0, 3)),
        ("at", "night", _) => Some((720.0, 2)),
        _ => None,
    };
    let in_half = |hour: f64, half: f64| if half > 0.0 && hour < 12.0 { hour * 60.0 + 720.0 } else { hour * 60.0 };
    let mut at = 0;
    while at < all.len() {
        match word(at) {
            "noon" => push(at, at, 720.0, false),
            "midnight" => push(at, at, 0.0, false),
            "half" | "quarter" if word(at + 1) == "past" || (word(at) == "quarter" && word(at + 1) == "to") => {
                let minutes = if word(at) == "half" { 30.0 } else { 15.0 };
                let minutes = if word(at + 1) == "to" { -minutes } else { minutes };
                if let Some(hour) = hour(at + 2) {
                    let half = of_day(at + 3);
                    let value = half.map_or(hour * 60.0, |(half, _)| in_half(hour, half)) + minutes;
                    let last = at + 2 + half.map_or(0, |(_, count)| count);
                    push(at, last, value, half.is_none() && hour <= 12.0);
                    at = last;
                }
            }
            // The words of `22:15` are two with a colon between them, or one.
            digits if digits.contains(':') => {
                let mut parts = digits.splitn(2, ':').map(|part| part.parse::<f64>().ok());
                if let (Some(Some(hours)), Some(Some(minutes))) = (parts.next(), parts.next())
                    && hours <= 24.0
                    && minutes < 60.0
                {
                    push(at, at, hours * 60.0 + minutes, false);
                }
            }
            _ => {
                if let Some(hours) = hour(at) {
                    let end = all[at].0.end;
                    let minutes = word(at + 1).parse::<f64>().ok().filter(|minutes| {
                        *minutes < 60.0
                            && word(at + 1).len() == 2
                            && text.get(end..=end) == Some(":")
                            && all[at + 1].0.start == end + 1
                    });
                    let behind = at + 1 + usize::from(minutes.is_some());
                    if let Some((half, count)) = of_day(behind).filter(|_| hours <= 12.0) {
                        push(at, behind + count - 1, in_half(hours, half) + minutes.unwrap_or(0.0), false);
                        at = behind + count - 1;
                    } else if let Some(minutes) = minutes {
                        push(at, at + 1, hours * 60.0 + minutes, false);
                        at += 1;
                    } else if word(at + 1) == "o'clock" {
                        push(at, at + 1, hours * 60.0, hours <= 12.0);
                        at += 1;
                    }
                } else if let Some((hours, minutes)) = pointed(word(at))
                    && of_day(at + 1).is_some()
                {
                    let (half, count) = of_day(at + 1).unwrap_or((0.0, 0));
                    push(at, at + count, in_half(hours, half) + minutes, false);
                    at += count;
                }
            }
        }
        at += 1;
    }
    found
}

/// Returns hours and minutes of a time such as `6.30`.
fn pointed(word: &str) -> Option<(f64, f64)> {
    let (hours, minutes) = word.split_once('.')?;
    let sound = (1..=2).contains(&hours.len()) && minutes.len() == 2;
    let (hours, minutes): (f64, f64) = (hours.parse().ok()?, minutes.parse().ok()?);
    (sound && hours <= 24.0 && minutes < 60.0).then_some((hours, minutes))
}

/// Returns the shares in words: `a third of`, `half`, `one in twenty`, `one person in twenty`.
fn shares(text: &str) -> Vec<Amount> {
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let word = |at: usize| all.get(at).map_or("", |(_, word)| word.as_str());
    let mut found = Vec::new();
    let mut push = |span: Span, value: f64, measure: Measure, factor: f64| {
        found.push(Amount {
            span,
            value: value * factor,
            raw: value,
            measure,
            side: Side::At,
            factor,
            is_change: false,
            is_bare: false,
            is_replaced: false,
        });
    };
    for at in 0..all.len() {
        if let Some((_, share)) = FRACTIONS.iter().find(|(name, _)| *name == word(at)) {
            let before = at.checked_sub(1).map_or("", word);
            let many = before.parse::<f64>().ok().filter(|many| word(at).ends_with('s') && *many < 10.0);
            let value = many
                .filter(|_| !word(at).ends_with("thirds") && !word(at).ends_with("quarters"))
                .map_or(*share, |many| many * share);
            // `half an hour` and `half a year` are amounts of time.
            let unit = Some(at + 2).filter(|_| matches!(word(at + 1), "a" | "an")).and_then(|at| Unit::named(word(at)));
            if let Some(unit) = unit {
                push(Span::new(all[at].0.start, all[at + 2].0.end), value, Measure::Of(unit.dimension), unit.factor);
            } else if word(at) == "half"
                || word(at + 1) == "of"
                || matches!(before, "a" | "one" | "by" | "under")
                || many.is_some()
            {
                let first = if many.is_some() { at - 1 } else { at };
                push(Span::new(all[first].0.start, all[at].0.end), value, Measure::Of(Dimension::Share), 1.0);
            }
        }
        if word(at) == "one" || word(at) == "1" {
            let inner = [at + 1, at + 2].into_iter().find(|at| word(*at) == "in");
            if let Some(inner) = inner
                && let Ok(of) = word(inner + 1).parse::<f64>()
                && of > 1.0
                && of < 1_000.0
            {
                push(Span::new(all[at].0.start, all[inner + 1].0.end), 1.0 / of, Measure::Of(Dimension::Share), 1.0);
            }
        }
    }
    found
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

impl Amount {
    /// Returns how this amount of a claim stands to one of its source.
    pub fn against(&self, source: &Self) -> Fit {
        let Some((own, other)) = self.comparable(source) else { return Fit::Apart };
        let tolerance = match (self.side, source.side) {
            (Side::Near, _) | (_, Side::Near) => 0.05 * other.abs().max(own.abs()),
            // Whole numbers, such as years, are the same or not.
            _ if self.factor == source.factor => 1e-9,
            _ => (0.001 * other.abs()).max(1e-9),
        };
        let same = (own - other).abs() <= tolerance || self.open_clock(source, own, other);
        match (self.side, source.side) {
            (Side::From, Side::UpTo) | (Side::UpTo, Side::From) if same => Fit::Opposite,
            _ if same => Fit::Same,
            (Side::At | Side::Near, Side::From) => {
                if own > other {
                    Fit::Within
                } else {
                    Fit::Outside
                }
            }
            (Side::At | Side::Near, Side::UpTo) => {
                if own < other {
                    Fit::Within
                } else {
                    Fit::Outside
                }
            }
            _ => Fit::Differs,
        }
    }

    /// Returns the two values if they can be compared.
    fn comparable(&self, source: &Self) -> Option<(f64, f64)> {
        use Measure::{Clock, Count, Date, Of};
        let clock = |amount: &Self| match amount.raw {
            raw if raw.fract() == 0.0 && (0.0..=24.0).contains(&raw) => Some(raw * 60.0),
            raw => pointed(&format!("{raw:.2}")).map(|(hours, minutes)| hours * 60.0 + minutes),
        };
        match (&self.measure, &source.measure) {
            (Of(Dimension::Angle), Of(Dimension::Temperature)) | (Of(Dimension::Temperature), Of(Dimension::Angle)) => {
                Some((self.raw, source.raw))
            }
            (Of(a), Of(b)) => (a == b).then_some((self.value, source.value)),
            (Count, Count) => (self.is_year() == source.is_year()).then_some((self.value, source.value)),
            // A bare number may have left out its unit: 14 kilograms with it, and 8 without.
            (Count, Of(_)) => (self.raw == source.raw && self.is_bare).then_some((self.raw, source.raw)),
            (Of(_), Count) => (self.raw == source.raw && source.is_bare).then_some((self.raw, source.raw)),
            (Date { year: a, month: b, day: c }, Date { year: x, month: y, day: z }) => {
                let agree = |one: &Option<u32>, other: &Option<u32>| one.is_none() || other.is_none() || one == other;
                Some(if agree(a, x) && b == y && agree(c, z) { (0.0, 0.0) } else { (1.0, 0.0) })
            }
            (Count, Date { year: Some(year), .. }) | (Date { year: Some(year), .. }, Count) => {
                let own = if self.measure == Count { self.raw } else { source.raw };
                (own == f64::from(*year)).then_some((own, own))
            }
            (Clock { .. }, Clock { .. }) => Some((self.value, source.value)),
            (Clock { .. }, Count) => clock(source).map(|minutes| (self.value, minutes)),
            (Count, Clock { .. }) => clock(self).map(|minutes| (minutes, source.value)),
            _ => None,
        }
    }

    /// Returns `true` for a number that is most likely a year.
    pub fn is_year(&self) -> bool {
        self.measure == Measure::Count
            && self.raw.fract() == 0.0
            && (1_200.0..2_200.0).contains(&self.raw)
            && self.is_bare
    }

    /// Returns `true` if a month lies between two others.
    pub fn is_between(&self, from: &Self, to: &Self) -> bool {
        match (&self.measure, &from.measure, &to.measure) {
            (
                Measure::Date { month, day: None, .. },
                Measure::Date { month: from, day: None, .. },
                Measure::Date { month: to, day: None, .. },
            ) => {
                if from <= to {
                    (from..=to).contains(&month)
                } else {
                    month >= from || month <= to
                }
            }
            (own, low, high) => {
                own == low && low == high && from.value < to.value && (from.value..=to.value).contains(&self.value)
            }
        }
    }

    /// Returns `true` for times that are the same but for the half of the day, which one of them leaves open.
    fn open_clock(&self, source: &Self, own: f64, other: f64) -> bool {
        let is_open = |amount: &Self| !matches!(amount.measure, Measure::Clock { is_open: false } | Measure::Of(_));
        let clock = |amount: &Self| matches!(amount.measure, Measure::Clock { .. });
        (clock(self) || clock(source))
            && (is_open(self) || is_open(source))
            && ((own - other).abs() - 720.0).abs() < 0.5
    }

    /// Returns `true` if two amounts of the source give this one: their sum, their difference, a share of one of them, or a year of twelve months. Unless
    /// `freely`, a sum counts only with a change, such as 40 centimetres higher.
    pub fn follows_from(&self, source: &[Amount], freely: bool) -> bool {
        use Measure::{Clock, Count, Of};
        // Converted units are not exact; whole numbers are.
        let slack = if self.factor == 1.0 { 1e-9 } else { (0.002 * self.value.abs()).max(1e-9) };
        let near = |value: f64| (value - self.value).abs() <= slack;
        // A number beside another may leave its unit out: 14 kilograms with it, and 8 without.
        let value = |a: &Amount| match (&a.measure, &self.measure) {
            (Of(a_dimension), Of(own)) => (a_dimension == own).then_some(a.value),
            (Count, Count) => Some(a.value),
            (Count, Of(Dimension::Mass | Dimension::Length | Dimension::Money(_))) => Some(a.raw * self.factor),
            (Count, Of(_)) if a.is_change => Some(a.raw * self.factor),
            _ => None,
        };
        let duration = self.measure == Of(Dimension::Duration);
        for (at, a) in source.iter().enumerate().take(50) {
            if matches!(a.measure, Of(Dimension::Money(_))) && a.measure == self.measure && near(a.value * 12.0) {
                return true;
            }
            for (other, b) in source.iter().enumerate().take(50).filter(|(other, _)| *other != at) {
                let clocks = matches!((&a.measure, &b.measure), (Clock { .. }, Clock { .. }));
                if freely && duration && clocks && at < other && near((b.value - a.value).rem_euclid(1_440.0) * 60.0) {
                    return true;
                }
                let years = a.measure == Count && b.measure == Count && a.raw > 1_000.0 && b.raw > a.raw;
                if freely && duration && years && near((b.raw - a.raw) * 31_557_600.0) {
                    return true;
                }
                let Some(own) = value(a) else { continue };
                let known = a.measure == self.measure || b.measure == self.measure;
                if let Some(second) = value(b)
                    && self.measure != Of(Dimension::Share)
                    && known
                    && (freely || b.is_change)
                    && (near(own + second) || near((own - second).abs()))
                {
                    return true;
                }
                if b.measure == Of(Dimension::Share) && a.measure == self.measure && near(own * b.value) {
                    return true;
                }
            }
        }
        false
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
