//! What the guides show can be done as they show it.

use std::path::PathBuf;

use crate::common::{built, run};
use logothete::Config;
use logothete::search::Filter;
use rstest::rstest;

fn guide(name: &str) -> String {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name);
    std::fs::read_to_string(path).expect(name)
}

/// The fenced blocks in a language; without one, what is typed into a shell.
fn blocks(text: &str, language: &str) -> Vec<String> {
    let all = text.split("```").skip(1).step_by(2).filter_map(|block| block.split_once('\n'));
    let found: Vec<String> = all.filter(|(of, _)| *of == language).map(|(_, block)| block.to_owned()).collect();
    assert!(!found.is_empty(), "there is no block in {language:?}");
    found
}

/// The words of a line as a shell reads them.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut quote, mut inside) = (vec![String::new()], None, false);
    for c in line.chars() {
        match quote {
            Some(end) if c == end => quote = None,
            None if c == '"' || c == '\'' => (quote, inside) = (Some(c), true),
            None if c == ' ' => {
                if inside || !words.last().is_some_and(String::is_empty) {
                    words.push(String::new());
                }
                inside = false;
            }
            _ => words.last_mut().expect("there is one").push(c),
        }
    }
    words
}

#[rstest]
#[case("guide/searching.md")]
#[case("guide/chunking.md")]
#[case("guide/answers.md")]
#[case("guide/prompts.md")]
#[case("guide/measuring.md")]
#[case("guide/composing.md")]
fn commands_run(#[case] name: &str) {
    let folder = built();
    let mut ran_any = false;
    for line in blocks(&guide(name), "").iter().flat_map(|block| block.lines()) {
        let Some(arguments) = line.strip_prefix("logothete ") else { continue };
        let arguments =
            words(&arguments.replace("demo/documents", "DEMO").replace("demo/questions", "DEMO/../questions"));
        let ran = run(folder.path(), &arguments.iter().map(String::as_str).collect::<Vec<_>>());
        assert_eq!((ran.code, ran.err.as_str()), (0, ""), "{line}");
        assert!(ran.out.lines().count() > 3, "{line}: {}", ran.out);
        ran_any = true;
    }
    assert!(ran_any);
}

#[rstest]
#[case("guide/encoders.md")]
#[case("guide/answers.md")]
#[case("guide/prompts.md")]
fn settings_are_read(#[case] name: &str) {
    for block in blocks(&guide(name), "toml") {
        Config::parse(&block).unwrap_or_else(|error| panic!("{error} in\n{block}"));
    }
}

/// Each row of the table, with names in place of words such as `field`.
#[test]
fn filters_are_written_as_the_table_says() {
    let guide = guide("guide/searching.md");
    let rows = guide.lines().filter(|line| line.starts_with("| `field") || line.starts_with("| `has"));
    let mut seen = 0;
    for row in rows {
        let cell = row.split('|').nth(1).expect("a cell");
        let codes: Vec<&str> = cell.split('`').skip(1).step_by(2).collect();
        let [first, more @ ..] = codes.as_slice() else { panic!("{row}") };
        Filter::parse(first).unwrap_or_else(|error| panic!("{error} in {first}"));
        for other in more {
            // Behind the first stand other signs, or other values, in its place.
            let (head, value) = first.rsplit_once(' ').expect("a value");
            let operator = head.rsplit(' ').next().expect("an operator");
            let written = match other.contains("..") {
                true => format!("{head} {other}"),
                false => format!("{} {other} {value}", head.trim_end_matches(operator).trim_end()),
            };
            Filter::parse(&written).unwrap_or_else(|error| panic!("{error} in {written}"));
            seen += 1;
        }
        seen += 1;
    }
    assert!(seen >= 12, "{seen}");
}

#[test]
fn anyone_can_read_the_catalogue() {
    let folder = built();
    let catalogue = folder.path().join("logothete.corpus/corpus.db");
    let connection =
        rusqlite::Connection::open_with_flags(catalogue, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY).expect("SQLite");
    let guide = guide("format.md");
    for statement in blocks(&guide, "sql").iter().flat_map(|block| block.split_inclusive(';')) {
        if statement.trim().is_empty() {
            continue;
        }
        let mut prepared = connection.prepare(statement).unwrap_or_else(|error| panic!("{error} in {statement}"));
        let columns = prepared.column_count();
        let mut rows = prepared.query([]).expect("it runs");
        while let Some(row) = rows.next().expect("a row") {
            (0..columns).for_each(|at| assert!(row.get_ref(at).is_ok()));
        }
    }
    let count = |sql: &str| connection.query_row(sql, [], |row| row.get::<_, u64>(0)).expect("a number");
    let shown: serde_json::Value = serde_json::from_str(&run(folder.path(), &["show", "--json"]).out).expect("JSON");
    assert_eq!(Some(count("SELECT count(*) FROM chunks")), shown["chunks"].as_u64());
    // Every table that the schema makes is described.
    let mut tables = connection
        .prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%'")
        .expect("SQL");
    for table in tables.query_map([], |row| row.get::<_, String>(0)).expect("tables") {
        let table = table.expect("a name");
        assert!(guide.contains(&format!("| `{table}` |")), "docs/format.md does not tell of {table}");
    }
}
