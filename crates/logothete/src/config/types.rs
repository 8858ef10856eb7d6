//! Errors of types in a configuration, in the words of its users and without the values, which may be secret.

/// Returns an error of the deserialiser in plain words. Other messages stay as they are.
pub(super) fn plain(message: &str) -> String {
    let message = message.trim();
    let found = message.strip_prefix("invalid type: ").or_else(|| message.strip_prefix("invalid value: "));
    let Some((found, expected)) = found.and_then(|found| found.rsplit_once(", expected ")) else {
        return message.to_owned();
    };
    format!("this needs {}, not {}", needed(expected), kind(found))
}

/// Returns a type in words.
fn needed(expected: &str) -> &str {
    match expected.trim().trim_start_matches("a ").trim_start_matches("an ") {
        "usize" | "u8" | "u16" | "u32" | "u64" => "a whole number of 0 or more",
        "isize" | "i8" | "i16" | "i32" | "i64" => "a whole number",
        "f32" | "f64" => "a number",
        "bool" | "boolean" => "true or false",
        "string" | "path string" | "str" => "text in quotes",
        "sequence" => "a list, such as [\"a\", \"b\"]",
        "map" => "a table, such as { name = \"value\" }",
        _ => expected.trim(),
    }
}

/// Returns the kind of a value that was found, without the value.
fn kind(found: &str) -> &'static str {
    match found.split([' ', '`']).next().unwrap_or_default() {
        "string" => "text",
        "integer" if found.contains('-') => "a whole number below 0",
        "integer" => "a whole number",
        "floating" => "a number with a fraction",
        "boolean" => "true or false",
        "sequence" => "a list",
        "map" => "a table",
        _ => "a value of this kind",
    }
}
