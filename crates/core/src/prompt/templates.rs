//! Templates of prompts: the defaults, and those of a user, which are checked when they are loaded.
//!
//! A template is text with `{{ variables }}` and `{% conditions %}` in the language of the package `minijinja`.

use std::collections::BTreeMap;

use minijinja::{Environment, UndefinedBehavior};
use serde::Serialize;

use crate::error::{Error, ErrorKind, Result};
use crate::fingerprint::Fingerprint;
use crate::suggest::closest;

/// A template: its name, the default, the variables that it may use, and those that it must use.
struct Known {
    name: &'static str,
    text: &'static str,
    variables: &'static [&'static str],
    required: &'static [&'static str],
}

const ALL: [Known; 30] = [
    Known {
        name: "answer_instruction",
        text: include_str!("templates/answer_instruction.txt"),
        variables: &["mode", "refusal", "own_knowledge", "language", "max_sentences", "style"],
        required: &[],
    },
    Known {
        name: "answer_question",
        text: include_str!("templates/answer_question.txt"),
        variables: &["passages", "question"],
        required: &["passages", "question"],
    },
    Known {
        name: "condense_instruction",
        text: include_str!("templates/condense_instruction.txt"),
        variables: &[],
        required: &[],
    },
    Known {
        name: "condense_question",
        text: include_str!("templates/condense_question.txt"),
        variables: &["conversation", "question"],
        required: &["conversation", "question"],
    },
    Known {
        name: "context_instruction",
        text: include_str!("templates/context_instruction.txt"),
        variables: &["max_words"],
        required: &[],
    },
    Known {
        name: "context_passage",
        text: include_str!("templates/context_passage.txt"),
        variables: &["place", "document", "passage"],
        required: &["passage"],
    },
    Known {
        name: "group_instruction",
        text: include_str!("templates/group_instruction.txt"),
        variables: &["max_words"],
        required: &[],
    },
    Known {
        name: "group_texts",
        text: include_str!("templates/group_texts.txt"),
        variables: &["texts"],
        required: &["texts"],
    },
    Known {
        name: "summarise_instruction",
        text: include_str!("templates/summarise_instruction.txt"),
        variables: &["max_words"],
        required: &[],
    },
    Known {
        name: "summarise_turns",
        text: include_str!("templates/summarise_turns.txt"),
        variables: &["summary", "turns"],
        required: &["turns"],
    },
    Known {
        name: "combine_answers",
        text: include_str!("templates/combine_answers.txt"),
        variables: &["answers", "question"],
        required: &["answers", "question"],
    },
    Known {
        name: "combine_instruction",
        text: include_str!("templates/combine_instruction.txt"),
        variables: &[],
        required: &[],
    },
    Known {
        name: "refine_question",
        text: include_str!("templates/refine_question.txt"),
        variables: &["passages", "answer", "question"],
        required: &["passages", "answer", "question"],
    },
    Known {
        name: "repair_answer",
        text: include_str!("templates/repair_answer.txt"),
        variables: &["problems"],
        required: &["problems"],
    },
    Known {
        name: "digest_instruction",
        text: include_str!("templates/digest_instruction.txt"),
        variables: &["fields", "refusal"],
        required: &["fields"],
    },
    Known {
        name: "digest_passages",
        text: include_str!("templates/digest_passages.txt"),
        variables: &["passages", "notes", "title"],
        required: &["passages", "notes"],
    },
    Known {
        name: "draft_instruction",
        text: include_str!("templates/draft_instruction.txt"),
        variables: &[],
        required: &[],
    },
    Known {
        name: "draft_passage",
        text: include_str!("templates/draft_passage.txt"),
        variables: &["place", "passage"],
        required: &["passage"],
    },
    Known {
        name: "hypothetical_instruction",
        text: include_str!("templates/hypothetical_instruction.txt"),
        variables: &["max_words"],
        required: &[],
    },
    Known {
        name: "hypothetical_question",
        text: include_str!("templates/hypothetical_question.txt"),
        variables: &["question"],
        required: &["question"],
    },
    Known {
        name: "phrasings_instruction",
        text: include_str!("templates/phrasings_instruction.txt"),
        variables: &["max_phrasings"],
        required: &[],
    },
    Known {
        name: "phrasings_question",
        text: include_str!("templates/phrasings_question.txt"),
        variables: &["question"],
        required: &["question"],
    },
    Known {
        name: "rerank_instruction",
        text: include_str!("templates/rerank_instruction.txt"),
        variables: &["count"],
        required: &[],
    },
    Known {
        name: "rerank_passages",
        text: include_str!("templates/rerank_passages.txt"),
        variables: &["passages", "question"],
        required: &["passages", "question"],
    },
    Known {
        name: "rewrite_instruction",
        text: include_str!("templates/rewrite_instruction.txt"),
        variables: &[],
        required: &[],
    },
    Known {
        name: "rewrite_question",
        text: include_str!("templates/rewrite_question.txt"),
        variables: &["question"],
        required: &["question"],
    },
    Known {
        name: "route_instruction",
        text: include_str!("templates/route_instruction.txt"),
        variables: &["places", "max_routes"],
        required: &["places"],
    },
    Known {
        name: "route_question",
        text: include_str!("templates/route_question.txt"),
        variables: &["question"],
        required: &["question"],
    },
    Known {
        name: "split_instruction",
        text: include_str!("templates/split_instruction.txt"),
        variables: &["max_parts"],
        required: &[],
    },
    Known {
        name: "split_question",
        text: include_str!("templates/split_question.txt"),
        variables: &["question"],
        required: &["question"],
    },
];

/// The templates of a pipeline.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Templates(BTreeMap<&'static str, String>);

impl Default for Templates {
    fn default() -> Self {
        Self(ALL.iter().map(|known| (known.name, known.text.to_owned())).collect())
    }
}

impl Templates {
    /// Returns the names and the texts of all templates, in alphabetical order.
    pub fn all(&self) -> impl Iterator<Item = (&str, &str)> {
        self.0.iter().map(|(name, text)| (*name, text.as_str()))
    }

    /// Replaces a template.
    ///
    /// # Errors
    /// If there is no template of this name, the text is no template, it uses an unknown variable, or it leaves out a variable that
    /// it must use. The place is the name with the line; the message names the nearest variable.
    pub fn replace(&mut self, name: &str, text: impl Into<String>) -> Result<()> {
        let text = text.into();
        let wrong = |message: String| Error::new(ErrorKind::Configuration, message).at(name);
        let Some(known) = ALL.iter().find(|known| known.name == name) else {
            let names = ALL.iter().map(|known| known.name.to_owned());
            let hint = match closest(name, names.clone()) {
                Some(near) => format!("did you mean {near}?"),
                None => format!("the templates are {}", names.collect::<Vec<_>>().join(", ")),
            };
            return Err(wrong(format!("there is no template of this name; {hint}")));
        };
        let environment = environment();
        let template = environment.template_from_named_str(name, &text).map_err(|error| {
            let line = error.line().unwrap_or(1);
            let detail = error.detail().unwrap_or("it cannot be parsed");
            Error::new(ErrorKind::Configuration, format!("this is no template: {detail}"))
                .at(format!("{name}, line {line}"))
        })?;
        let used = template.undeclared_variables(false);
        if let Some(unknown) = used.iter().find(|used| !known.variables.contains(&used.as_str())) {
            let hint = match closest(unknown, known.variables.iter().map(|name| (*name).to_owned())) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("the variables are {}", known.variables.join(", ")),
            };
            let line = text.lines().position(|line| line.contains(unknown.as_str())).map_or(1, |at| at + 1);
            let message = format!("unknown variable `{unknown}`; {hint}");
            return Err(Error::new(ErrorKind::Configuration, message).at(format!("{name}, line {line}")));
        }
        if let Some(missing) = known.required.iter().find(|required| !used.contains(**required)) {
            return Err(wrong(format!("this template must use `{missing}`; without it the model would not see them")));
        }
        self.0.insert(known.name, text);
        Ok(())
    }

    /// Fills in a template.
    ///
    /// # Errors
    /// If the template fails with these values.
    pub(super) fn render(&self, name: &str, values: impl Serialize) -> Result<String> {
        let text = self.0.get(name).map_or("", String::as_str);
        let rendered = environment().render_named_str(name, text, values).map_err(|error| {
            let place = format!("{name}, line {}", error.line().unwrap_or(1));
            let message = format!("the template failed: {}", error.detail().unwrap_or("a value is missing"));
            Error::new(ErrorKind::Configuration, message).at(place)
        })?;
        Ok(rendered.trim().to_owned())
    }

    /// Returns a fingerprint of the templates whose names begin with a text, such as `context`. It changes with any of them.
    pub fn fingerprint(&self, beginning: &str) -> Fingerprint {
        let some = self.0.iter().filter(|(name, _)| name.starts_with(beginning));
        Fingerprint::of(some.flat_map(|(name, text)| [(*name).to_owned(), text.clone()]))
    }
}

fn environment() -> Environment<'static> {
    let mut environment = Environment::new();
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    environment
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("answer_questoin", "x", "answer_questoin: there is no template of this name; did you mean answer_question?")]
    #[case("answer_question", "{{ passages }}", "answer_question: this template must use `question`")]
    #[case(
        "answer_question",
        "a\n{{ pasages }} {{ question }}",
        "answer_question, line 2: unknown variable `pasages`; did you mean `passages`?"
    )]
    #[case("answer_question", "a\n\n{% for %}", "answer_question, line 3: this is no template")]
    fn a_template_is_checked_when_it_is_loaded(#[case] name: &str, #[case] text: &str, #[case] expected: &str) {
        let error = Templates::default().replace(name, text).expect_err("it is wrong").to_string();
        assert!(error.starts_with(expected), "{error}");
    }

    #[test]
    fn the_defaults_pass_their_own_checks() {
        let mut templates = Templates::default();
        let before = templates.fingerprint("");
        for known in &ALL {
            templates.replace(known.name, known.text).expect("a default");
        }
        assert_eq!(templates.fingerprint(""), before);
        templates.replace("answer_question", "{{ question }} {{ passages }}").expect("a template");
        assert_ne!(templates.fingerprint(""), before);
        assert_eq!(templates.fingerprint("context"), Templates::default().fingerprint("context"));
    }
}
