//! The prompt for where a question belongs, and the use of the reply.

use serde_json::json;

use super::templates::Templates;
use super::{Prompt, fenced};
use crate::error::Result;
use crate::text::fold;

/// Returns a prompt that asks to which of some places a question belongs; each has a name and a description. Read the reply with [`routes_named`].
///
/// # Errors
/// If a template fails.
pub fn route_prompt(question: &str, places: &[(&str, &str)], max: usize, templates: &Templates) -> Result<Prompt> {
    let places: Vec<_> =
        places.iter().map(|(name, description)| json!({ "name": name, "description": description })).collect();
    let instruction = templates.render("route_instruction", json!({ "places": places, "max_routes": max }))?;
    let material = json!({ "question": fenced("asked", question) });
    Ok(Prompt::new(instruction, templates.render("route_question", material)?))
}

/// Returns the positions of the names that a reply to [`route_prompt`] has, in its order. Other words of it do not count.
pub fn routes_named(reply: &str, names: &[&str]) -> Vec<usize> {
    let reply = fold(reply);
    let is_apart = |at: usize, length: usize| {
        let letter = |c: Option<char>| c.is_some_and(char::is_alphanumeric);
        !letter(reply[..at].chars().next_back()) && !letter(reply[at + length..].chars().next())
    };
    let place = |name: &&str| {
        let name = fold(name);
        reply.match_indices(&name).map(|(at, _)| at).find(|at| !name.is_empty() && is_apart(*at, name.len()))
    };
    let mut found: Vec<(usize, usize)> =
        names.iter().enumerate().filter_map(|(number, name)| Some((place(name)?, number))).collect();
    found.sort_unstable();
    found.into_iter().map(|(_, number)| number).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("byelaws", &[1])]
    #[case("Byelaws, then notices.", &[1, 0])]
    #[case("It belongs to the “notices” folder.", &[0])]
    #[case("noticeboard", &[])]
    #[case("none", &[])]
    #[case("", &[])]
    fn names_are_read(#[case] reply: &str, #[case] expected: &[usize]) {
        assert_eq!(routes_named(reply, &["notices", "byelaws", ""]), expected);
    }
}
