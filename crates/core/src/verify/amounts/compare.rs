//! How two amounts compare.

use super::clocks::pointed;
use super::{Amount, Fit, Measure, Side};
use crate::quantity::Dimension;

/// So many bytes apart, two amounts of a source may be added up: those of a sentence and the next. Of more, some add up to any number.
const MAX_DISTANCE: usize = 160;

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
            // A year may stand before a noun that it does not count: in 1978 Hilda Remm.
            (Count, Count) => {
                let is_one_kind = self.is_year() == source.is_year() || self.value == source.value;
                is_one_kind.then_some((self.value, source.value))
            }
            // A bare number may have left out its unit: 14 kilograms with it, and 8 without.
            (Count, Of(_)) => (self.raw == source.raw && self.is_bare).then_some((self.raw, source.raw)),
            (Of(_), Count) => (self.raw == source.raw && source.is_bare).then_some((self.raw, source.raw)),
            (Date { year: a, month: b, day: c }, Date { year: x, month: y, day: z }) => {
                // Who knows the month alone does not know the day.
                if b == y && c.is_some() && z.is_none() {
                    return None;
                }
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
        let near = |value: f64| match self.side {
            Side::Near => (value - self.value).abs() <= 0.05 * value.abs(),
            _ => (value - self.value).abs() <= slack,
        };
        // How long something lasted may be told by a bound: less than fifty years.
        let lasts = |value: f64| match self.side {
            Side::UpTo => value <= self.value + slack && value >= 0.75 * self.value,
            Side::From => value >= self.value - slack && value <= 1.25 * self.value,
            _ => near(value),
        };
        // A number beside another may leave its unit out: 14 kilograms with it, and 8 without.
        let value = |a: &Amount| match (&a.measure, &self.measure) {
            (Of(a_dimension), Of(own)) => (a_dimension == own).then_some(a.value),
            (Count, Count) => Some(a.value),
            (Count, Of(Dimension::Mass | Dimension::Length | Dimension::Money(_))) if a.is_bare => {
                Some(a.raw * self.factor)
            }
            (Count, Of(_)) if a.is_change => Some(a.raw * self.factor),
            _ => None,
        };
        // An hour without a name of its own is one beside a time of day: begins at six and ends at two in the afternoon.
        let clocks = |a: &Amount, b: &Amount| {
            let of = |amount: &Amount| match amount.measure {
                Clock { .. } => Some(amount.value),
                Count if amount.is_bare && amount.raw.fract() == 0.0 && amount.raw <= 24.0 => Some(amount.raw * 60.0),
                _ => None,
            };
            let is_one = matches!(a.measure, Clock { .. }) || matches!(b.measure, Clock { .. });
            Some((of(a)?, of(b)?)).filter(|_| is_one)
        };
        let duration = self.measure == Of(Dimension::Duration);
        for (at, a) in source.iter().enumerate().take(50) {
            if matches!(a.measure, Of(Dimension::Money(_))) && a.measure == self.measure && near(a.value * 12.0) {
                return true;
            }
            for (other, b) in source.iter().enumerate().take(50).filter(|(other, _)| *other != at) {
                if freely
                    && duration
                    && at < other
                    && let Some((from, to)) = clocks(a, b)
                    && lasts((to - from).rem_euclid(1_440.0) * 60.0)
                {
                    return true;
                }
                let years = a.measure == Count && b.measure == Count && a.raw > 1_000.0 && b.raw > a.raw;
                if freely && duration && years && lasts((b.raw - a.raw) * 31_557_600.0) {
                    return true;
                }
                let Some(own) = value(a).filter(|_| a.span.start.abs_diff(b.span.start) <= MAX_DISTANCE) else {
                    continue;
                };
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
