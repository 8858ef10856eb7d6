//! Generators and checks.

use futures_util::StreamExt;
use logothete_core::Result;
use logothete_core::prompt::Prompt;
use logothete_core::verify::Verdict;

use super::{ODD_TEXTS, Promises, long_text, named};
use crate::checking::{Check, ClaimToCheck};
use crate::generate::{GenerationEvent, GenerationRequest, Generator};
use crate::threads::caught_future;

/// Tries a generator on a prompt: its reply comes in parts and has one end, and a generator without chance says the same twice.
///
/// It is asked three times, which costs what the prompt costs.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub async fn generator(generator: &dyn Generator, prompt: Prompt) -> Result<()> {
    let mut promises = Promises::of_stage("the generator", &generator.name(), || generator.fingerprint());
    promises.keep(generator.count_tokens("") == 0, "an empty text has no tokens");
    promises.keep(
        generator.count_tokens(&long_text()) > generator.count_tokens("one word"),
        "a longer text has more tokens",
    );
    let request = GenerationRequest::new(prompt);
    let streamed = caught_future("the generator", async {
        let (mut text, mut ends, mut after) = (String::new(), 0, false);
        let mut stream = generator.stream(&request);
        while let Some(event) = stream.next().await {
            after |= ends > 0;
            match event? {
                GenerationEvent::Text(more) => text.push_str(&more),
                GenerationEvent::End { .. } => ends += 1,
            }
        }
        Ok((text, ends, after))
    });
    match streamed.await {
        Err(error) => promises.keep(false, format!("it replies ({error})")),
        Ok((text, ends, after)) => {
            promises.keep(ends == 1, "its stream has one end");
            promises.keep(!after, "nothing comes after the end");
            match caught_future("the generator", async { generator.generate(&request).await }).await {
                Ok(whole) => promises
                    .keep(whole.text == text, "a request of temperature 0 has the same reply twice, streamed or not"),
                Err(error) => promises.keep(false, format!("it replies a second time ({error})")),
            }
        }
    }
    // A reader that goes away stops the reply.
    let dropped = caught_future("the generator", async {
        drop(generator.stream(&request).next().await);
        Ok(())
    });
    promises.keep(dropped.await.is_ok(), "a stream can be dropped");
    promises.kept()
}

/// Tries a check on some claims, each with the text of its source: it says the same each time, with a reason, and does not praise.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub fn check(check: &dyn Check, claims: &[(&str, &str)]) -> Result<()> {
    let mut promises = Promises::of_stage("the check", check.name(), || check.fingerprint());
    let long = long_text();
    let odd = ODD_TEXTS.iter().map(|text| (*text, *text)).chain([(long.as_str(), "")]);
    for (at, (text, source)) in claims.iter().copied().chain(odd).enumerate() {
        let claim = ClaimToCheck::new(text, [source], Verdict::Supported);
        let found = promises.same_twice(text, at < claims.len(), || check.check(&claim));
        if let Some(objection) = found.flatten() {
            promises.keep(!objection.reason.trim().is_empty(), format!("an objection has a reason, {}", named(text)));
            let is_worse = !objection.verdict.is_borne_out();
            promises.keep(is_worse, format!("an objection is worse than supported, {}", named(text)));
        }
    }
    let without = ClaimToCheck::new("The bell is rung in fog.", [], Verdict::Unsupported);
    promises.survive("for a claim without sources", || check.check(&without).is_ok());
    promises.kept()
}
