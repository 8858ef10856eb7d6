//! One fuzz program for all targets. The variable `FUZZ_TARGET` names the one that is run; `run.sh` sets it.
#![no_main]

mod corpus;
mod parsers;
mod read;
mod replies;
mod same;
mod written;

use std::sync::LazyLock;

/// A target takes any bytes. It may refuse them, and must not panic.
type Target = fn(&[u8]);

static TARGET: LazyLock<Target> = LazyLock::new(|| {
    let name = std::env::var("FUZZ_TARGET").unwrap_or_default();
    let all = [parsers::TARGETS, written::TARGETS, replies::TARGETS, corpus::TARGETS, same::TARGETS].concat();
    let found = all.iter().find(|(own, _)| *own == name);
    found.unwrap_or_else(|| panic!("FUZZ_TARGET is {name:?}; the targets are {:?}", all.iter().map(|one| one.0))).1
});

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| TARGET(bytes));

/// Returns bytes as text; those that are no UTF-8 are replaced.
fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}
