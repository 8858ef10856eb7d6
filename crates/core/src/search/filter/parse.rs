//! The filter language: a tokeniser and a recursive-descent parser.

use super::{Filter, Is};
use crate::document::Value;
use crate::error::{Error, ErrorKind, Result};

/// The highest nesting of a filter.
const MAX_DEPTH: usize = 64;
/// Words that are no field names unless they are quoted.
const KEYWORDS: [&str; 8] = ["and", "or", "not", "in", "has", "lists", "contains", "fits"];

#[derive(Clone, Debug, PartialEq)]
enum Token {
    /// A word without quotes.
    Bare(String),
    Quoted(String),
    /// `( ) , = != < <= > >= ..`
    Sign(&'static str),
}

impl Token {
    fn text(&self) -> String {
        match self {
            Self::Bare(text) => format!("“{text}”"),
            Self::Quoted(text) => format!("“\"{text}\"”"),
            Self::Sign(sign) => format!("“{sign}”"),
        }
    }
}

const SIGNS: [&str; 11] = ["..", "!=", "<=", ">=", "=", "<", ">", "(", ")", ",", "!"];

/// Returns an error at a byte of the filter; its place is the character.
fn wrong(text: &str, at: usize, message: impl Into<String>) -> Error {
    let character = text.get(..at).unwrap_or(text).chars().count() + 1;
    Error::new(ErrorKind::Configuration, message).at(format!("filter, character {character}"))
}

/// Returns `true` if text needs no quotes.
pub(super) fn is_bare(text: &str) -> bool {
    !text.is_empty()
        && !KEYWORDS.contains(&text)
        && !text.contains("..")
        && !text.starts_with('.')
        && !text.ends_with('.')
        && !text.contains(|c: char| c.is_whitespace() || "=<>!(),\"\\".contains(c))
}

/// Returns the value of a word without quotes.
pub(super) fn value(bare: &str) -> Value {
    Value::from_written(bare)
}

fn tokens(text: &str) -> Result<Vec<(usize, Token)>> {
    let (mut found, mut at) = (Vec::new(), 0);
    while let Some(first) = text[at..].chars().next() {
        let rest = &text[at..];
        if first.is_whitespace() {
            at += first.len_utf8();
        } else if let Some(inner) = rest.strip_prefix('"') {
            let (mut word, mut signs, mut end) = (String::new(), inner.char_indices(), None);
            while let Some((place, sign)) = signs.next() {
                match sign {
                    '"' => {
                        end = Some(place);
                        break;
                    }
                    '\\' => word.extend(signs.next().map(|(_, sign)| sign)),
                    sign => word.push(sign),
                }
            }
            let end = end.ok_or_else(|| wrong(text, at, "this quotation is not closed; put \" behind it"))?;
            found.push((at, Token::Quoted(word)));
            at += end + 2;
        } else if let Some(sign) = SIGNS.iter().find(|sign| rest.starts_with(**sign)) {
            if *sign == "!" {
                return Err(wrong(text, at, "“!” alone means nothing; write != or not"));
            }
            found.push((at, Token::Sign(sign)));
            at += sign.len();
        } else {
            let stops = |(place, sign): (usize, char)| {
                sign.is_whitespace() || "=<>!(),\"".contains(sign) || rest[place..].starts_with("..")
            };
            let end = rest.char_indices().find(|&sign| stops(sign)).map_or(rest.len(), |(place, _)| place);
            found.push((at, Token::Bare(rest[..end].to_owned())));
            at += end;
        }
    }
    Ok(found)
}

pub(super) fn parse(text: &str) -> Result<Filter> {
    let mut parser = Parser { text, tokens: tokens(text)?, at: 0, depth: 0 };
    if parser.tokens.is_empty() {
        return Err(wrong(text, 0, "the filter is empty; write one such as year >= 2024"));
    }
    let filter = parser.any()?;
    match parser.peek() {
        None => Ok(filter),
        Some(Token::Sign(")")) => Err(parser.wrong("this bracket closes nothing")),
        Some(token) => {
            let message = format!("{} was not expected here; join tests with and, or", token.text());
            Err(parser.wrong(message))
        }
    }
}

struct Parser<'a> {
    text: &'a str,
    tokens: Vec<(usize, Token)>,
    at: usize,
    depth: usize,
}

impl Parser<'_> {
    fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.at).map(|(_, token)| token)
    }

    fn wrong(&self, message: impl Into<String>) -> Error {
        let at = self.tokens.get(self.at).map_or(self.text.trim_end().len(), |(at, _)| *at);
        wrong(self.text, at, message)
    }

    /// Consumes a word if it is next.
    fn takes(&mut self, word: &str) -> bool {
        let is_next = matches!(self.peek(), Some(Token::Bare(bare)) if bare == word);
        self.at += usize::from(is_next);
        is_next
    }

    fn takes_sign(&mut self, sign: &str) -> bool {
        let is_next = matches!(self.peek(), Some(Token::Sign(next)) if *next == sign);
        self.at += usize::from(is_next);
        is_next
    }

    fn any(&mut self) -> Result<Filter> {
        let mut parts = vec![self.all()?];
        while self.takes("or") {
            parts.push(self.all()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Filter::Any(parts) })
    }

    fn all(&mut self) -> Result<Filter> {
        let mut parts = vec![self.one()?];
        while self.takes("and") {
            parts.push(self.one()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Filter::All(parts) })
    }

    fn one(&mut self) -> Result<Filter> {
        if self.depth == MAX_DEPTH {
            return Err(self.wrong("it is nested too deep"));
        }
        self.depth += 1;
        let outcome = if self.takes("not") {
            self.one().map(|filter| !filter)
        } else if self.takes_sign("(") {
            let filter = self.any()?;
            if self.takes_sign(")") { Ok(filter) } else { Err(self.wrong("a bracket is not closed; put ) here")) }
        } else if self.takes("has") {
            self.field().map(|field| Filter::field(field).is_present())
        } else {
            self.test()
        };
        self.depth -= 1;
        outcome
    }

    fn field(&mut self) -> Result<String> {
        let field = match self.peek() {
            Some(Token::Bare(name)) if !KEYWORDS.contains(&name.as_str()) => name.clone(),
            Some(Token::Quoted(name)) => name.clone(),
            Some(token) => {
                let message = format!("the name of a field was expected, not {}", token.text());
                return Err(self.wrong(message));
            }
            None => return Err(self.wrong("the name of a field is missing here")),
        };
        self.at += 1;
        Ok(field)
    }

    fn test(&mut self) -> Result<Filter> {
        let name = self.field()?;
        let field = Filter::field(name.clone());
        let sign = match self.peek().cloned() {
            Some(Token::Sign(sign @ ("=" | "!=" | "<" | "<=" | ">" | ">="))) => sign,
            _ if self.takes("in") => return self.in_something(field),
            _ if self.takes("lists") => {
                if self.takes_sign("(") {
                    return Ok(field.lists(self.list()?));
                }
                return Ok(field.lists([self.value("behind “lists”")?]));
            }
            _ if self.takes("contains") => return Ok(field.contains(self.words("contains")?)),
            _ if self.takes("fits") => return Ok(field.fits(self.words("fits")?)),
            _ => {
                let message =
                    format!("what “{name}” should be is missing: one of = != < <= > >= in lists contains fits");
                return Err(self.wrong(message));
            }
        };
        self.at += 1;
        let value = self.value(&format!("behind “{name} {sign}”"))?;
        Ok(match sign {
            "=" => field.equals(value),
            "!=" => !field.equals(value),
            "<" => field.less_than(value),
            "<=" => field.at_most(value),
            ">" => field.more_than(value),
            _ => field.at_least(value),
        })
    }

    fn in_something(&mut self, field: super::Field) -> Result<Filter> {
        if self.takes_sign("(") {
            return Ok(field.is_one_of(self.list()?));
        }
        let least = if self.takes_sign("..") { None } else { Some(self.value("behind “in”")?) };
        if least.is_some() && !self.takes_sign("..") {
            return Err(self.wrong("“in” needs a range such as 3..5, or a list such as (a, b)"));
        }
        let ends = match self.peek() {
            None | Some(Token::Sign(_)) => true,
            Some(Token::Bare(word)) => KEYWORDS.contains(&word.as_str()),
            Some(Token::Quoted(_)) => false,
        };
        let most = if ends { None } else { Some(self.value("behind “..”")?) };
        if least.is_none() && most.is_none() {
            return Err(self.wrong("a range needs a beginning or an end"));
        }
        Ok(field.is(Is::Between(least, most)))
    }

    /// Takes the values of a list whose bracket is open.
    fn list(&mut self) -> Result<Vec<Value>> {
        let mut values = vec![self.value("in the list")?];
        while self.takes_sign(",") {
            values.push(self.value("in the list")?);
        }
        match self.takes_sign(")") {
            true => Ok(values),
            false => Err(self.wrong("the list is not closed; put ) behind its last value")),
        }
    }

    fn value(&mut self, where_: &str) -> Result<Value> {
        let value = match self.peek() {
            Some(Token::Bare(bare)) if !KEYWORDS.contains(&bare.as_str()) => value(bare),
            Some(Token::Quoted(text)) => Value::Text(text.clone()),
            Some(token) => {
                let message =
                    format!("a value is missing {where_}, before {}; words such as and need quotes", token.text());
                return Err(self.wrong(message));
            }
            None => return Err(self.wrong(format!("a value is missing {where_}"))),
        };
        self.at += 1;
        Ok(value)
    }

    fn words(&mut self, behind: &str) -> Result<String> {
        Ok(match self.value(&format!("behind “{behind}”"))? {
            Value::Text(text) => text,
            other => other.to_string(),
        })
    }
}
