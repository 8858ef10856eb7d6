//! Replacing what must not leave the machine: addresses, numbers and the user's own patterns.

use regex::Regex;

use super::Prompt;
use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::suggest::closest;

/// What a match of a pattern must fulfil besides.
type Check = fn(&str) -> bool;

/// The kinds that a mask knows, with their patterns and checks.
const KINDS: [(&str, &str, Check); 3] = [
    ("email", r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+", |_| true),
    ("telephone", r"(?:\+|\b00?)[1-9][0-9 ()/.\-]{4,}[0-9]", is_telephone),
    ("account", r"\b[A-Z]{2}[0-9]{2}(?: ?[A-Z0-9]{2,4}){3,8}\b|\b[0-9](?:[ -]?[0-9]){12,18}\b", is_account),
];
/// The longest placeholder.
const MAX_PLACEHOLDER: usize = 32;

/// Finds what must not leave the machine.
#[derive(Clone, Debug)]
pub struct Mask {
    patterns: Vec<(String, Regex, Check)>,
}

/// What a mask has replaced, to put it back.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Hidden {
    /// Placeholder and original, in the order of appearance.
    replaced: Vec<(String, String)>,
}

impl Mask {
    /// Creates a mask of kinds, `email`, `telephone` and `account`, and of the user's own patterns, which are regular expressions.
    ///
    /// # Errors
    /// If a kind is unknown or a pattern is none.
    pub fn new<S: AsRef<str>>(kinds: &[S], own: &[S]) -> Result<Self> {
        let wrong = |message: String| Error::new(ErrorKind::Configuration, message);
        let mut patterns = Vec::new();
        for kind in kinds {
            let kind = kind.as_ref();
            let Some((name, pattern, check)) = KINDS.iter().find(|(name, ..)| *name == kind) else {
                let hint = closest(kind, KINDS.iter().map(|(name, ..)| (*name).to_owned())).map_or_else(
                    || "there are email, telephone, account".to_owned(),
                    |near| format!("did you mean {near}?"),
                );
                return Err(wrong(format!("there is no kind {kind:?}; {hint}")));
            };
            let pattern = Regex::new(pattern).map_err(|error| wrong(error.to_string()))?;
            patterns.push((name.to_uppercase(), pattern, *check));
        }
        for own in own {
            let own = own.as_ref();
            let pattern = Regex::new(own)
                .map_err(|error| wrong(format!("{own:?} is no regular expression: {error}")).because(error))?;
            if pattern.is_match("") {
                return Err(wrong(format!("{own:?} fits an empty text; write what must be there")));
            }
            patterns.push(("HIDDEN".to_owned(), pattern, |_: &str| true));
        }
        Ok(Self { patterns })
    }

    /// Returns `true` if the mask hides nothing.
    pub fn is_empty(&self) -> bool {
        self.patterns.is_empty()
    }

    /// Returns a fingerprint that changes with what the mask hides.
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(self.patterns.iter().map(|(name, pattern, _)| format!("{name} {}", pattern.as_str())))
    }

    /// Returns a text with placeholders such as `<EMAIL-1>`. The same original has the same placeholder.
    pub fn hide(&self, text: &str, hidden: &mut Hidden) -> String {
        let mut text = text.to_owned();
        for (name, pattern, check) in &self.patterns {
            let mut out = String::with_capacity(text.len());
            let mut end = 0;
            for found in pattern.find_iter(&text).filter(|found| check(found.as_str())) {
                out.push_str(&text[end..found.start()]);
                out.push_str(&hidden.placeholder(name, found.as_str(), &text));
                end = found.end();
            }
            out.push_str(&text[end..]);
            text = out;
        }
        text
    }

    /// Returns a prompt with placeholders in all its messages.
    pub fn hide_prompt(&self, prompt: &Prompt, hidden: &mut Hidden) -> Prompt {
        let mut prompt = prompt.clone();
        for message in &mut prompt.messages {
            message.content = self.hide(&message.content, hidden);
        }
        prompt
    }
}

impl Hidden {
    fn placeholder(&mut self, name: &str, original: &str, text: &str) -> String {
        if let Some((placeholder, _)) = self.replaced.iter().find(|(_, known)| known == original) {
            return placeholder.clone();
        }
        let taken = |placeholder: &String| {
            text.contains(placeholder.as_str()) || self.replaced.iter().any(|(known, _)| known == placeholder)
        };
        let mut number = 1;
        let mut placeholder = format!("<{name}-{number}>");
        while taken(&placeholder) {
            number += 1;
            placeholder = format!("<{name}-{number}>");
        }
        self.replaced.push((placeholder.clone(), original.to_owned()));
        placeholder
    }

    /// Returns a text with the originals in the place of their placeholders.
    pub fn restore(&self, text: &str) -> String {
        self.replaced.iter().fold(text.to_owned(), |text, (placeholder, original)| text.replace(placeholder, original))
    }

    /// Takes the next part of a text, and returns what can be shown of it: a placeholder that has only begun waits for its end.
    pub fn restore_part(&self, waiting: &mut String, part: &str) -> String {
        waiting.push_str(part);
        let begun = waiting.rfind('<').filter(|at| {
            let rest = &waiting[*at..];
            !self.replaced.is_empty() && !rest.contains('>') && rest.len() < MAX_PLACEHOLDER
        });
        let shown: String = waiting.drain(..begun.unwrap_or(waiting.len())).collect();
        self.restore(&shown)
    }
}

fn digits(text: &str) -> Vec<u32> {
    text.chars().filter_map(|c| c.to_digit(10)).collect()
}

fn is_telephone(text: &str) -> bool {
    (7..=15).contains(&digits(text).len())
}

/// Returns `true` for a number of an account or a card whose check digits are right.
fn is_account(text: &str) -> bool {
    let bare: String = text.chars().filter(char::is_ascii_alphanumeric).collect();
    if bare.starts_with(|c: char| c.is_ascii_alphabetic()) {
        // ISO 13616: the first four characters go to the end, letters become numbers from 10 on, and the rest by 97 is 1.
        if !(15..=34).contains(&bare.len()) {
            return false;
        }
        let moved = bare[4..].chars().chain(bare[..4].chars());
        let rest = moved.filter_map(|c| c.to_digit(36)).fold(0u64, |rest, value| {
            let shift = if value > 9 { 100 } else { 10 };
            (rest * shift + u64::from(value)) % 97
        });
        return rest == 1;
    }
    // ISO/IEC 7812: every second digit from the right is doubled.
    let sum: u32 = digits(text)
        .iter()
        .rev()
        .enumerate()
        .map(|(at, digit)| match (at % 2, digit * 2) {
            (0, _) => *digit,
            (_, double) => double / 10 + double % 10,
        })
        .sum();
    sum.is_multiple_of(10)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn mask() -> Mask {
        Mask::new(&["email", "telephone", "account"], &["BERTH-[0-9]{4}"]).expect("a mask")
    }

    #[rstest]
    #[case("Write to office@marrowby.test or to the mole.", "Write to <EMAIL-1> or to the mole.")]
    #[case("a@b.test, c@d.test, a@b.test", "<EMAIL-1>, <EMAIL-2>, <EMAIL-1>")]
    #[case("Call +44 1632 960 123 or 01632 960124.", "Call <TELEPHONE-1> or <TELEPHONE-2>.")]
    #[case("Pay to GB82 WEST 1234 5698 7654 32 today.", "Pay to <ACCOUNT-1> today.")]
    #[case("Pay with 4111 1111 1111 1111.", "Pay with <ACCOUNT-1>.")]
    #[case("Pay with 4111 1111 1111 1112.", "Pay with 4111 1111 1111 1112.")]
    #[case("On 2026-03-31 at 10:00, 5.4 metres, 12,388 hours.", "On 2026-03-31 at 10:00, 5.4 metres, 12,388 hours.")]
    #[case("Booking BERTH-0042.", "Booking <HIDDEN-1>.")]
    #[case("<EMAIL-1> stands here: a@b.test", "<EMAIL-1> stands here: <EMAIL-2>")]
    fn what_is_hidden_comes_back(#[case] text: &str, #[case] expected: &str) {
        let mut hidden = Hidden::default();
        assert_eq!(mask().hide(text, &mut hidden), expected);
        assert_eq!(hidden.restore(expected), text);
        let mut waiting = String::new();
        let mut shown: String = expected.chars().map(|c| hidden.restore_part(&mut waiting, &c.to_string())).collect();
        shown.push_str(&waiting);
        assert_eq!(shown, text, "part by part");
    }

    #[rstest]
    #[case(&["emial"], &[], "did you mean email?")]
    #[case(&["email"], &["("], "is no regular expression")]
    #[case(&["email"], &["x*"], "fits an empty text")]
    fn wrong_masks(#[case] kinds: &[&str], #[case] own: &[&str], #[case] said: &str) {
        assert!(Mask::new(kinds, own).expect_err("wrong").message().contains(said));
    }

    proptest! {
        #[test]
        fn any_text_comes_back(text in "([a-z]{1,5}@[a-z]{1,4}\\.test|\\+[0-9 ]{8,12}|[<>A-Z-]|\\PC){0,12}") {
            let mut hidden = Hidden::default();
            let masked = mask().hide(&text, &mut hidden);
            prop_assert_eq!(hidden.restore(&masked), text);
        }
    }
}
