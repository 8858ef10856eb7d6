#![no_main]
#[path = "common.rs"]
mod common;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| common::read(&logothete_parse::JsonParser::default(), "a.json", bytes));
