//! Units of measure, with what one is in another where the rule is plain.

/// What a unit measures. Quantities of the same dimension can be compared.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Dimension {
    /// In metres.
    Length,
    /// In square metres.
    Area,
    /// In cubic metres.
    Volume,
    /// In kilograms.
    Mass,
    /// In seconds.
    Duration,
    /// In metres a second.
    Speed,
    /// In degrees Celsius; other scales are not converted.
    Temperature,
    /// A share of 1.
    Share,
    /// In watts.
    Power,
    /// In watt-hours.
    Energy,
    /// In bytes.
    Data,
    /// In degrees.
    Angle,
    /// In a currency, which is never converted into another.
    Money(String),
}

/// A unit of measure.
#[derive(Clone, Debug, PartialEq)]
pub struct Unit {
    /// What it measures.
    pub dimension: Dimension,
    /// What one of it is in the unit that its dimension names.
    pub factor: f64,
}

use Dimension::{Angle, Area, Data, Duration, Energy, Length, Mass, Power, Share, Speed, Temperature, Volume};

/// The names of units, in lower case, in English, German, French, Spanish and Italian. A name of one letter counts as it is written, behind a number.
const NAMES: &[(Dimension, f64, &str)] = &[
    (
        Length,
        0.001,
        "mm millimetre millimetres millimeter millimeters millimètre millimètres milímetro milímetros millimetro millimetri",
    ),
    (
        Length,
        0.01,
        "cm centimetre centimetres centimeter centimeters zentimeter centimètre centimètres centímetro centímetros centimetro centimetri",
    ),
    (Length, 1.0, "m metre metres meter meters metern mètre mètres metro metros metri"),
    (
        Length,
        1000.0,
        "km kilometre kilometres kilometer kilometers kilometern kilomètre kilomètres kilómetro kilómetros chilometro chilometri",
    ),
    (Length, 0.0254, "inch inches zoll"),
    (Length, 0.3048, "ft foot feet"),
    (Length, 0.9144, "yard yards"),
    (Length, 1609.344, "mi mile miles meile meilen"),
    (Length, 1852.0, "nm nmi"),
    (Area, 1.0, "m² m2 qm"),
    (Area, 10_000.0, "ha hectare hectares hektar hectárea hectáreas ettaro ettari"),
    (Area, 1e6, "km² km2"),
    (Volume, 1e-6, "ml millilitre millilitres milliliter"),
    (Volume, 0.001, "l litre litres liter liters litro litros litri"),
    (Volume, 1.0, "m³ m3"),
    (Mass, 1e-6, "mg milligram milligrams"),
    (Mass, 0.001, "g gram grams gramm gramme grammes gramo gramos grammo grammi"),
    (
        Mass,
        1.0,
        "kg kilo kilos kilogram kilograms kilogramm kilogramme kilogrammes kilogramo kilogramos chilogrammo chilogrammi",
    ),
    (Mass, 1000.0, "t tonne tonnes tonnen tonelada toneladas tonnellata tonnellate"),
    (Mass, 0.453_592_37, "lb lbs"),
    (Duration, 0.001, "ms millisecond milliseconds"),
    (Duration, 1.0, "s sec second seconds sekunde sekunden seconde secondes segundo segundos secondo secondi"),
    (Duration, 60.0, "min minute minutes minuten minuto minutos minuti"),
    (Duration, 3600.0, "h hr hrs hour hours stunde stunden heure heures hora horas ora ore"),
    (
        Duration,
        86_400.0,
        "day days night nights tag tage tagen nacht nächte jour jours nuit nuits día días noche noches giorno giorni notte notti",
    ),
    (Duration, 604_800.0, "week weeks woche wochen semaine semaines semana semanas settimana settimane"),
    (Duration, 2_629_800.0, "month months monat monate monaten mois mes meses mese mesi"),
    (Duration, 315_576_000.0, "decade decades"),
    (Duration, 3_155_760_000.0, "century centuries"),
    (Duration, 31_557_600.0, "year years jahr jahre jahren an ans année années año años anno anni"),
    (Speed, 1.0, "m/s"),
    (Speed, 1.0 / 3.6, "km/h kph"),
    (Speed, 0.514_444_444_444, "kn kt knot knots knoten nœud nœuds nudo nudos nodo nodi"),
    (Speed, 0.44704, "mph"),
    (Temperature, 1.0, "°c"),
    (Share, 0.01, "% percent prozent"),
    (Share, 0.001, "‰"),
    (Power, 1.0, "w watt watts vatios"),
    (Power, 1000.0, "kw kilowatt kilowatts"),
    (Power, 1e6, "mw megawatt megawatts"),
    (Energy, 1000.0, "kwh kilowatt-hour kilowatt-hours kilowattstunde kilowattstunden"),
    (Data, 1.0, "byte bytes"),
    (Data, 1e3, "kb kilobyte kilobytes"),
    (Data, 1e6, "mb megabyte megabytes"),
    (Data, 1e9, "gb gigabyte gigabytes"),
    (Data, 1e12, "tb terabyte terabytes"),
    (Angle, 1.0, "° degree degrees grad degré degrés grado grados gradi"),
];

/// Names of several words.
const PHRASES: &[(Dimension, f64, &str)] = &[
    (Length, 1852.0, "nautical mile"),
    (Length, 1852.0, "nautical miles"),
    (Area, 1.0, "square metre"),
    (Area, 1.0, "square metres"),
    (Volume, 1.0, "cubic metre"),
    (Volume, 1.0, "cubic metres"),
    (Speed, 1.0, "metres per second"),
    (Speed, 1.0, "meters per second"),
    (Speed, 1.0 / 3.6, "kilometres per hour"),
    (Speed, 1.0 / 3.6, "kilometres an hour"),
    (Speed, 0.44704, "miles per hour"),
    (Speed, 0.44704, "miles an hour"),
    (Speed, 1.0, "metres a second"),
    (Share, 0.01, "per cent"),
    (Share, 0.01, "pour cent"),
    (Share, 0.01, "por ciento"),
    (Share, 0.01, "per cento"),
];

/// The signs and names of currencies, and the name that each goes by.
const CURRENCIES: &[(&str, &str)] = &[
    ("€ eur euro euros", "EUR"),
    ("$ usd dollar dollars", "USD"),
    ("£ gbp", "GBP"),
    ("¥ jpy yen", "JPY"),
    ("chf franken", "CHF"),
    ("franc francs", "franc"),
    ("crown crowns", "crown"),
    ("kr sek nok dkk kronor kroner", "krone"),
    ("₹ inr rupee rupees", "INR"),
];

impl Unit {
    /// Creates a unit.
    pub fn new(dimension: Dimension, factor: f64) -> Self {
        Self { dimension, factor }
    }

    /// Returns the unit that a text names; `None` if it names none. A text such as `Length (m)` is not a name: give its part.
    pub fn named(text: &str) -> Option<Self> {
        let name = text.trim().trim_end_matches('.');
        Self::symbol(name).or_else(|| {
            Self::leading(&name.to_lowercase())
                .filter(|(_, length)| *length == name.to_lowercase().len())
                .map(|(unit, _)| unit)
        })
    }

    /// Returns a unit whose case matters: `MW` is no milliwatt, and `M` no metre.
    fn symbol(name: &str) -> Option<Self> {
        let single = name.chars().count() == 1 && name.chars().all(char::is_alphabetic);
        (single && name.chars().all(char::is_uppercase) && !matches!(name, "W"))
            .then_some(())
            .map_or_else(|| Self::word(&name.to_lowercase()), |()| None)
    }

    /// Returns the unit of a name of one word, in lower case.
    fn word(name: &str) -> Option<Self> {
        let has = |names: &str| names.split(' ').any(|known| known == name);
        if name.is_empty() {
            return None;
        }
        let measure = NAMES.iter().find(|(_, _, names)| has(names));
        measure.map(|(dimension, factor, _)| Self::new(dimension.clone(), *factor)).or_else(|| {
            let money = CURRENCIES.iter().find(|(names, _)| has(names));
            money.map(|(_, currency)| Self::new(Dimension::Money((*currency).to_owned()), 1.0))
        })
    }

    /// Returns the unit that a text in lower case begins with, and the length of its name in bytes.
    pub(super) fn leading(text: &str) -> Option<(Self, usize)> {
        let phrase = PHRASES.iter().filter(|(_, _, name)| text.starts_with(name)).max_by_key(|(_, _, name)| name.len());
        let ends = |length: usize| !text[length..].starts_with(char::is_alphanumeric);
        if let Some((dimension, factor, name)) = phrase.filter(|(_, _, name)| ends(name.len())) {
            return Some((Self::new(dimension.clone(), *factor), name.len()));
        }
        let sign = text.chars().next().filter(|c| "%‰€$£¥₹".contains(*c));
        if let Some(sign) = sign {
            return Self::word(&sign.to_string()).map(|unit| (unit, sign.len_utf8()));
        }
        let length = text.find(|c: char| !(c.is_alphanumeric() || "°/²³-'’".contains(c))).unwrap_or(text.len());
        let name = text[..length].trim_end_matches(['-', '/', '\'', '’']);
        let unit = Self::word(name)?;
        Some((unit, name.len()))
    }
}
