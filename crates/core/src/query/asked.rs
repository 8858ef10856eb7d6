//! The kind of thing that a question asks for.

use super::question::{ASKING, LEADING, OPENING};
use crate::quantity::{Dimension, Notation, Number, numbers};
use crate::text::{Language, dates, fold, is_listed, is_stopword, words};

/// The kind of thing that an answer must contain, as the question's words tell.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Expectation {
    /// A quantity: how many, how far, how much; and what it measures, if the question says so.
    Quantity(Option<Dimension>),
    /// A time or date: when, at what time, how long.
    Time,
    /// A person or a role: who.
    Person,
    /// A place: where.
    Place,
    /// Yes or no: may I, is it allowed, does it.
    YesOrNo,
    /// What something is or means.
    Definition,
    /// A reason: why.
    Reason,
    /// What to do, or how something is done.
    Steps,
    /// Several things: which, what are.
    List,
    /// How things differ.
    Comparison,
    /// Nothing in particular.
    Anything,
}

/// What a question asks for, and the words that only say so.
pub(super) struct Asked {
    pub expects: Expectation,
    /// The words that name the kind of answer, which the answer need not have.
    pub named_by: Vec<String>,
}

/// Words after `how` that only name the kind of measure.
const TIMES: &[&str] = &["early", "late", "long", "often", "soon"];
const MEASURES: &[(&str, Option<Dimension>)] = &[
    ("big", None),
    ("close", Some(Dimension::Length)),
    ("deep", Some(Dimension::Length)),
    ("far", Some(Dimension::Length)),
    ("fast", Some(Dimension::Speed)),
    ("heavy", Some(Dimension::Mass)),
    ("high", Some(Dimension::Length)),
    ("large", None),
    ("many", None),
    ("much", None),
    ("old", None),
    ("small", None),
    ("tall", Some(Dimension::Length)),
    ("wide", Some(Dimension::Length)),
];

/// The verb of questions about a price.
const PRICE: &str = "cost";
/// Nouns that name a measure.
const MEASURE_NOUNS: &str = "age amount breadth charge cost depth distance duration fee height length limit number percentage power \
    price rate salary size speed sum temperature weight width";

/// How questions begin in other languages, by what they ask for then; the longest beginning that fits counts.
const OPENINGS: &[(Language, &[(Expectation, &str)])] = &[
    (
        Language::German,
        &[
            (
                Expectation::Quantity(None),
                "wie viel, wie viele, wieviel, wieviele, wie hoch, wie tief, wie weit, wie breit, wie groß, wie schwer, wie schnell, wie alt, wie teuer, was kostet, wie lang",
            ),
            (Expectation::Time, "wie lange, wie oft, um wie viel uhr, wann, bis wann"),
            (Expectation::Person, "wer, wem, wen"),
            (Expectation::Place, "wo, wohin, woher"),
            (Expectation::Reason, "warum, weshalb, wieso"),
            (Expectation::Definition, "was ist, was sind, was bedeutet"),
            (Expectation::Steps, "was muss, wie"),
            (Expectation::List, "welche"),
            (Expectation::YesOrNo, "darf, dürfen, muss, müssen, kann, können, ist, sind, gibt, hat, brauche"),
        ],
    ),
    (
        Language::French,
        &[
            (Expectation::Time, "combien de temps, quand, à quelle heure, quelle est la durée"),
            (
                Expectation::Quantity(None),
                "combien, quelle est la profondeur, quelle est la longueur, quelle est la hauteur, quelle est la largeur, quelle est la distance, quelle est la vitesse, quel est le prix",
            ),
            (Expectation::Place, "où"),
            (Expectation::Person, "qui"),
            (Expectation::Reason, "pourquoi"),
            (Expectation::Steps, "comment, que faut il"),
            (Expectation::Definition, "qu'est ce que"),
            (Expectation::List, "quels, quelles"),
            (Expectation::YesOrNo, "peut on, puis je, dois je, faut il, est ce que, est il"),
        ],
    ),
    (
        Language::Spanish,
        &[
            (Expectation::Time, "cuánto tiempo, cuándo, a qué hora"),
            (Expectation::Quantity(None), "cuánto, cuánta, cuántos, cuántas"),
            (Expectation::Place, "dónde"),
            (Expectation::Person, "quién, quiénes"),
            (Expectation::Reason, "por qué"),
            (Expectation::Steps, "cómo, qué hay que"),
            (Expectation::Definition, "qué es, qué significa"),
            (Expectation::List, "cuáles"),
            (Expectation::YesOrNo, "puedo, puede, se puede, debo, debe, hay que, está, es"),
        ],
    ),
    (
        Language::Italian,
        &[
            (Expectation::Time, "quanto tempo, quando, a che ora"),
            (Expectation::Quantity(None), "quanto, quanta, quanti, quante"),
            (Expectation::Place, "dove"),
            (Expectation::Person, "chi"),
            (Expectation::Reason, "perché"),
            (Expectation::Steps, "come"),
            (Expectation::Definition, "che cosa è, cos'è"),
            (Expectation::List, "quali"),
            (Expectation::YesOrNo, "posso, può, si può, devo, bisogna, è"),
        ],
    ),
    (
        Language::Dutch,
        &[
            (Expectation::Quantity(None), "hoeveel, hoe diep, hoe hoog, hoe ver"),
            (Expectation::Time, "hoe lang, wanneer"),
            (Expectation::Place, "waar"),
            (Expectation::Person, "wie"),
            (Expectation::Reason, "waarom"),
            (Expectation::Steps, "hoe"),
            (Expectation::Definition, "wat is"),
            (Expectation::List, "welke"),
            (Expectation::YesOrNo, "mag, moet, kan"),
        ],
    ),
    (
        Language::Portuguese,
        &[
            (Expectation::Time, "quanto tempo, quando, a que horas"),
            (Expectation::Quantity(None), "quanto, quantos, quantas"),
            (Expectation::Place, "onde"),
            (Expectation::Person, "quem"),
            (Expectation::Reason, "por que, porque"),
            (Expectation::Steps, "como"),
            (Expectation::Definition, "o que é"),
            (Expectation::List, "quais"),
            (Expectation::YesOrNo, "posso, pode, devo"),
        ],
    ),
];

/// Returns `true` if an English word only names the kind of measure.
pub(super) fn is_measure(folded: &str) -> bool {
    TIMES.contains(&folded) || MEASURES.iter().any(|(measure, _)| *measure == folded)
}

impl Asked {
    pub(super) fn of(question: &str) -> Self {
        let folded: Vec<String> = words(question).map(|word| fold(word.text)).collect();
        let opening = folded.iter().position(|word| !LEADING.contains(&word.as_str())).unwrap_or_default();
        let begins = folded.get(opening).map_or("", String::as_str);
        // A word such as `was` begins questions of two languages; the function words tell then.
        let is_english = ASKING.contains(&begins) || OPENING.contains(&begins);
        let other = opening_of(&folded);
        match other {
            Some((language, expects)) if !is_english || Language::of_question(question) == Some(language) => {
                Self { expects, named_by: Vec::new() }
            }
            _ => Self::in_english(&folded, opening),
        }
    }

    fn in_english(folded: &[String], opening: usize) -> Self {
        let after = |first: &'static [&'static str]| {
            folded.windows(2).filter(|pair| first.contains(&pair[0].as_str())).map(|pair| pair[1].as_str())
        };
        let has = |known: &[&str]| folded.iter().any(|word| known.contains(&word.as_str()));
        let begins = folded.get(opening).map(String::as_str);
        let next = folded.get(opening + 1).map_or("", String::as_str);
        let time = begins == Some("when")
            || after(&["what", "which"])
                .any(|word| matches!(word, "time" | "date" | "day" | "year" | "month" | "hour"))
            || after(&["how"]).any(|word| TIMES.contains(&word));
        // `What does it cost` asks for the same as `how much`.
        let asks_price = after(&["what"]).any(|word| matches!(word, "do" | "does" | "did"))
            && folded.iter().any(|word| word == PRICE);
        let measure = after(&["how"]).find_map(|word| MEASURES.iter().find(|(measure, _)| *measure == word));
        let names_measure = folded.iter().any(|word| is_listed(MEASURE_NOUNS, word));
        let content = folded.iter().filter(|word| !is_stopword(word)).count();
        let expects = match begins {
            _ if has(&["difference", "differ", "differs", "compare", "compared", "versus", "vs"]) => {
                Expectation::Comparison
            }
            _ if time => Expectation::Time,
            _ if measure.is_some() || asks_price => {
                Expectation::Quantity(measure.and_then(|(_, dimension)| dimension.clone()))
            }
            Some("what" | "which") if names_measure => Expectation::Quantity(None),
            Some("who" | "whom" | "whose") => Expectation::Person,
            Some("where") => Expectation::Place,
            Some("why") => Expectation::Reason,
            Some("how") => Expectation::Steps,
            Some("what")
                if has(&["done", "do", "steps"]) && has(&["must", "should", "has", "have", "is", "are", "steps"]) =>
            {
                Expectation::Steps
            }
            Some("what") if has(&["mean", "means", "meaning"]) => Expectation::Definition,
            Some("what") if matches!(next, "is" | "are") && content <= 3 => Expectation::Definition,
            Some("which") => Expectation::List,
            Some("what") if next == "are" => Expectation::List,
            Some(first) if OPENING.contains(&first) => Expectation::YesOrNo,
            _ => Expectation::Anything,
        };
        let named_by = match expects {
            Expectation::Quantity(_) | Expectation::Time => {
                // `How large` and `how many metres long`; the large one of `what does the large mooring cost` is no measure.
                let how = folded.iter().position(|word| word == "how");
                let is_named = |at: usize, word: &str| {
                    (is_measure(word) && how.is_some_and(|how| (how..how + 4).contains(&at)))
                        || (asks_price && word == PRICE)
                };
                let named = folded.iter().enumerate().filter(|(at, word)| is_named(*at, word));
                named.map(|(_, word)| word.clone()).collect()
            }
            Expectation::Comparison => {
                folded.iter().filter(|word| word.starts_with("differ") || word.starts_with("compar")).cloned().collect()
            }
            Expectation::Steps => {
                folded.iter().filter(|word| matches!(word.as_str(), "done" | "steps")).cloned().collect()
            }
            Expectation::YesOrNo => {
                let verbs = ["allowed", "permitted", "need", "forbidden"];
                folded.iter().filter(|word| verbs.contains(&word.as_str())).cloned().collect()
            }
            _ => Vec::new(),
        };
        Self { expects, named_by }
    }
}

/// Returns what a question of another language asks for, by its first words.
fn opening_of(folded: &[String]) -> Option<(Language, Expectation)> {
    let spaced = format!("{} ", folded.iter().take(6).cloned().collect::<Vec<_>>().join(" ").replace('-', " "));
    let of = |(language, kinds): &'static (Language, &'static [(Expectation, &'static str)])| {
        kinds
            .iter()
            .flat_map(move |(expects, phrases)| phrases.split(", ").map(move |phrase| (*language, phrase, expects)))
    };
    let fitting = OPENINGS
        .iter()
        .flat_map(of)
        .filter(|(_, phrase, _)| spaced.strip_prefix(phrase).is_some_and(|rest| rest.starts_with(' ')));
    fitting.max_by_key(|(_, phrase, _)| phrase.len()).map(|(language, _, expects)| (language, expects.clone()))
}

impl Expectation {
    /// Returns whether a text has the expected kind of answer, from 0 to 1; `None` if nothing in particular is expected, or no words tell.
    pub fn met_by(&self, text: &str) -> Option<f32> {
        let has = |known: &str| words(text).any(|word| is_listed(known, &fold(word.text)));
        let met = match self {
            Self::Quantity(dimension) => {
                let found: Vec<_> = measured(text).collect();
                match dimension {
                    _ if found.is_empty() => {
                        if has(NUMBERS) {
                            1.0
                        } else {
                            0.0
                        }
                    }
                    Some(wanted) => {
                        let fits = found
                            .iter()
                            .any(|number| number.unit.as_ref().is_none_or(|unit| unit.dimension == *wanted));
                        if fits || has(NUMBERS) { 1.0 } else { 0.5 }
                    }
                    None => 1.0,
                }
            }
            Self::Time => {
                let timed =
                    text.contains(|c: char| c.is_numeric()) || has(NUMBERS) || has(MOMENTS) || !dates(text).is_empty();
                f32::from(u8::from(timed))
            }
            Self::Person => {
                let all: Vec<_> = words(text).collect();
                let named = all.iter().skip(1).any(|word| word.text.starts_with(char::is_uppercase));
                f32::from(u8::from(named || has(PERSONS)))
            }
            Self::Place => {
                let all: Vec<_> = words(text).collect();
                let placed = all.windows(2).any(|pair| {
                    is_listed(PLACES, &fold(pair[0].text)) && pair[1].text.starts_with(char::is_alphanumeric)
                });
                f32::from(u8::from(placed))
            }
            Self::Reason => {
                if has(REASONS) {
                    1.0
                } else {
                    0.5
                }
            }
            Self::YesOrNo => {
                if has(RULES) {
                    1.0
                } else {
                    0.5
                }
            }
            Self::Definition | Self::Steps | Self::List | Self::Comparison | Self::Anything => return None,
        };
        Some(met)
    }

    /// Returns `true` if the answer must have figures, or words for them.
    pub fn is_figure(&self) -> bool {
        matches!(self, Self::Quantity(_) | Self::Time)
    }
}

/// Returns the numbers of a text that measure something: none behind a name, as in `Berth 7`, and no years.
fn measured(text: &str) -> impl Iterator<Item = Number> {
    numbers(text, Notation::Point).into_iter().filter(|number| {
        let before = text[..number.span.start].split_whitespace().next_back().unwrap_or_default();
        let is_name = before.starts_with(char::is_uppercase) && !before.ends_with([':', '.', '·', '|']);
        let is_year = (1900.0..2100.0).contains(&number.value) && number.value.fract() == 0.0;
        number.unit.is_some() || !(is_name || is_year)
    })
}

const NUMBERS: &str = "one two three four five six seven eight nine ten eleven twelve fourteen fifteen twenty thirty forty fifty \
    sixty seventy eighty ninety hundred thousand half twice zwei drei vier fünf sechs sieben acht neun zehn \
    deux trois quatre cinq sept huit neuf dix dos tres cuatro cinco siete ocho nueve diez due tre quattro \
    cinque sei sette otto nove dieci";
const MOMENTS: &str = "once daily weekly monthly sunrise sunset noon midnight before after during until while always never \
    monday tuesday wednesday thursday friday saturday sunday vor nach bis täglich avant après jusqu'à antes \
    después hasta prima dopo";
const PERSONS: &str = "he she person nobody anyone everybody everyone owner author user users";
const PLACES: &str = "in at on near behind under above below beside inside outside off from between im am bei auf hinter dans \
    sur à au en sobre nel nella sul sulla a";
const REASONS: &str = "because since as so therefore due reason reasons cause causes to weil da deshalb denn um parce car afin \
    pour porque para debido perché poiché per";
const RULES: &str = "may must shall can cannot not no never only allowed forbidden permitted prohibited nobody need needs \
    required compulsory except unless darf dürfen muss müssen nicht kein keine nur verboten erlaubt peut doit \
    ne pas interdit autorisé obligatoire puede debe prohibido permitido obligatorio può deve non vietato \
    permesso";
