//! The times of day of a text.

use super::{Amount, Measure};
use crate::document::Span;
use crate::text::{fold, words};

/// Returns the times of day: `22:15`, `9 pm`, `half past six`, `noon`. In `text`, number words are written in figures.
pub(super) fn clocks(text: &str) -> Vec<Amount> {
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let word = |at: usize| all.get(at).map_or("", |(_, word)| word.as_str());
    let mut found = Vec::new();
    let mut push = |from: usize, to: usize, minutes: f64, is_open: bool| {
        let span = Span::new(all[from].0.start, all[to.min(all.len() - 1)].0.end);
        found.push(Amount::new(span, minutes, Measure::Clock { is_open }, 1.0));
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
pub(super) fn pointed(word: &str) -> Option<(f64, f64)> {
    let (hours, minutes) = word.split_once('.')?;
    let sound = (1..=2).contains(&hours.len()) && minutes.len() == 2;
    let (hours, minutes): (f64, f64) = (hours.parse().ok()?, minutes.parse().ok()?);
    (sound && hours <= 24.0 && minutes < 60.0).then_some((hours, minutes))
}
