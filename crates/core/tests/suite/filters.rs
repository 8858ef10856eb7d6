//! Filters: the language, the builder, and what holds.

use logothete_core::document::{Date, Metadata, Pages, Value};
use logothete_core::search::{ChunkFacts, DocumentFacts, Filter, Is};
use proptest::prelude::*;
use rstest::rstest;

fn metadata() -> Metadata {
    let date = Date::from_written("2025-05-27T06:40:00Z").expect("a date");
    [
        ("kind", Value::Text("Notice".to_owned())),
        ("number", Value::Number(6.0)),
        ("final", Value::Flag(true)),
        ("issued", Value::Date(date)),
        ("file name", Value::Text("notice-2025-06.md".to_owned())),
    ]
    .map(|(name, value)| (name.to_owned(), value))
    .into()
}

fn holds(filter: &Filter) -> bool {
    let metadata = metadata();
    let section = ["Draughts".to_owned(), "Berth 7".to_owned()];
    let document = DocumentFacts {
        document: "notices/notice-2025-06.md",
        title: Some("Correction: draught at Berth 7"),
        media_type: "text/markdown",
        metadata: &metadata,
    };
    let pages = Some(Pages { first: 3, last: 5 });
    let chunk = ChunkFacts { document, pages, section: &section };
    let whole = filter.holds_for_all(&document);
    let holds = filter.holds(&chunk);
    assert!(whole.is_none_or(|whole| whole == holds), "{filter}: the document and the chunk agree");
    holds
}

#[rstest]
#[case("kind = notice", true)]
#[case("kind != notice", false)]
#[case("author != somebody", true)]
#[case("has author or has kind", true)]
#[case("number > 5 and number <= 6", true)]
#[case("number < 6", false)]
#[case("number in 6..9", true)]
#[case("number in ..5", false)]
#[case("number in 6..", true)]
#[case("number in (1, 2, 6)", true)]
#[case("number = \"6\"", true)]
#[case("final = true", true)]
#[case("not final = true", false)]
#[case("issued = 2025", true)]
#[case("issued = 2025-05", true)]
#[case("issued <= 2025-05-27", true)]
#[case("issued < 2025-05-27", false)]
#[case("issued in 2025-04..2025-05", true)]
#[case("issued > 2025", false)]
#[case("issued > 2024", true)]
#[case("title contains \"draught at berth\"", true)]
#[case("title contains \"draught berth\"", false)]
#[case("document fits \"notices/*.md\"", true)]
#[case("document fits \"*/notice-????-06.md\"", true)]
#[case("document fits \"notice*\"", true)]
#[case("document fits \"otice*\"", false)]
#[case("type = text/markdown", true)]
#[case("page = 4", true)]
#[case("page != 4", false)]
#[case("page in 6..9", false)]
#[case("page < 4 and page > 4", true)]
#[case("section = \"berth 7\" and section contains draughts", true)]
#[case("\"file name\" fits *2025*", true)]
#[case("not (kind = notice or kind = byelaw) or number = 6", true)]
#[case("kind = a and kind = b or number = 6", true)]
#[case("kind = a and (kind = b or number = 6)", false)]
fn filters_hold(#[case] text: &str, #[case] expected: bool) {
    let filter = Filter::parse(text).expect("a filter");
    assert_eq!(holds(&filter), expected, "{text}");
    assert_eq!(Filter::parse(&filter.to_string()).expect("as it is written"), filter);
}

#[rstest]
#[case("", "character 1: the filter is empty; write one such as year >= 2024")]
#[case("year >=", "character 8: a value is missing behind “year >=”")]
#[case("year", "character 5: what “year” should be is missing: one of = != < <= > >= in lists contains fits")]
#[case("(a = 1", "character 7: a bracket is not closed; put ) here")]
#[case("a = 1)", "character 6: this bracket closes nothing")]
#[case("a = 1 b = 2", "character 7: “b” was not expected here; join tests with and, or")]
#[case("a in 3", "character 7: “in” needs a range such as 3..5, or a list such as (a, b)")]
#[case("a in (1, 2", "character 11: the list is not closed; put ) behind its last value")]
#[case("kind = \"notice", "character 8: this quotation is not closed; put \" behind it")]
#[case("= 3", "character 1: the name of a field was expected, not “=”")]
#[case("größe = and", "character 9: a value is missing behind “größe =”, before “and”; words such as and need quotes")]
#[case("a ! b", "character 3: “!” alone means nothing; write != or not")]
#[case("a in ..", "character 8: a range needs a beginning or an end")]
fn what_is_wrong_is_said_with_its_place(#[case] text: &str, #[case] expected: &str) {
    assert_eq!(Filter::parse(text).expect_err("it is wrong").to_string(), format!("filter, {expected}"));
}

#[test]
fn a_value_with_a_point_at_its_end_is_quoted_beside_a_range() {
    let filter = Filter::field("a").between(Value::Text(".".to_owned()), Value::Text("b.".to_owned()));
    assert_eq!(filter.to_string(), "a in \".\"..\"b.\"");
    assert_eq!(Filter::parse(&filter.to_string()).expect("as it is written"), filter);
}

#[test]
fn too_deep_a_filter_is_an_error() {
    let deep = format!("{}a = 1{}", "(".repeat(500), ")".repeat(500));
    assert!(Filter::parse(&deep).expect_err("too deep").to_string().contains("nested too deep"));
    assert!(Filter::parse(&format!("{}a = 1", "not ".repeat(9_000))).is_err());
}

#[test]
fn what_depends_on_the_chunk_is_left_open_for_the_document() {
    let metadata = metadata();
    let facts = DocumentFacts { document: "a.md", title: None, media_type: "text/plain", metadata: &metadata };
    let decided = |text: &str| Filter::parse(text).expect("a filter").holds_for_all(&facts);
    assert_eq!(decided("page = 3"), None);
    assert_eq!(decided("page = 3 and kind = other"), Some(false));
    assert_eq!(decided("page = 3 or kind = notice"), Some(true));
    assert_eq!(decided("not page = 3"), None);
    assert_eq!(decided("has title"), Some(false));
}

fn value() -> impl Strategy<Value = Value> {
    prop_oneof![
        any::<bool>().prop_map(Value::Flag),
        (-9000_i32..9000).prop_map(|number| Value::Number(f64::from(number) / 8.0)),
        "[a-z0-9 .\"\\\\()é-]{0,8}".prop_map(Value::Text),
        Just(Value::Date(Date::from_written("2024-02-29").expect("a date"))),
    ]
}

fn filter() -> impl Strategy<Value = Filter> {
    let is = prop_oneof![
        Just(Is::Present),
        value().prop_map(Is::Equal),
        value().prop_map(Is::Less),
        value().prop_map(Is::More),
        (value(), value()).prop_map(|(least, most)| Is::Between(Some(least), Some(most))),
        value().prop_map(|least| Is::Between(Some(least), None)),
        prop::collection::vec(value(), 1..4).prop_map(Is::OneOf),
        prop::collection::vec(value(), 1..4).prop_map(Is::Lists),
        "[a-z \"]{0,6}".prop_map(Is::Contains),
        "[a-z*?]{0,6}".prop_map(Is::Fits),
    ];
    let test = ("[a-z ]{1,5}|and|page", is).prop_map(|(field, is)| Filter::Test { field, is });
    test.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 2..4).prop_map(Filter::All),
            prop::collection::vec(inner.clone(), 2..4).prop_map(Filter::Any),
            inner.prop_map(|filter| !filter),
        ]
    })
}

/// The fields that there are, and one that there is not.
fn field() -> impl Strategy<Value = String> {
    let names =
        ["kind", "number", "final", "issued", "file name", "document", "title", "type", "page", "section", "author"];
    prop::sample::select(names.to_vec()).prop_map(str::to_owned)
}

/// Tests of fields that there are, by values that are near to theirs.
fn told() -> impl Strategy<Value = Filter> {
    let near = prop_oneof![
        (4..8).prop_map(|number| Value::Number(f64::from(number))),
        prop::sample::select(vec!["notice", "text/markdown", "berth 7", "true"])
            .prop_map(|text| Value::Text(text.to_owned())),
        prop::sample::select(vec!["2025", "2025-05", "2025-05-27"]).prop_map(|date| Value::Date(
            Date::from_written(date).unwrap_or_else(|| Date::from_written("2025-05-27").expect("a date"))
        )),
        Just(Value::Flag(true)),
    ];
    let is = prop_oneof![
        Just(Is::Present),
        near.clone().prop_map(Is::Equal),
        near.clone().prop_map(Is::Less),
        near.clone().prop_map(Is::More),
        near.prop_map(|least| Is::Between(Some(least), None)),
        prop::sample::select(vec!["berth", "draught at berth", "06"]).prop_map(|words| Is::Contains(words.to_owned())),
        prop::sample::select(vec!["*notice*", "b*7", "text/*"]).prop_map(|shape| Is::Fits(shape.to_owned())),
    ];
    (field(), is).prop_map(|(field, is)| Filter::Test { field, is })
}

proptest! {
    #[test]
    fn a_filter_is_read_as_it_was_written(filter in filter()) {
        let written = filter.to_string();
        prop_assert_eq!(Filter::parse(&written).map_err(|error| TestCaseError::fail(format!("{written}: {error}")))?, filter);
    }

    #[test]
    fn filters_are_made_of_others_as_logic_has_it(filters in prop::collection::vec(told(), 2..4)) {
        let each: Vec<bool> = filters.iter().map(holds).collect();
        prop_assert_eq!(holds(&Filter::All(filters.clone())), each.iter().all(|one| *one));
        prop_assert_eq!(holds(&Filter::Any(filters.clone())), each.iter().any(|one| *one));
        for (filter, holds_alone) in filters.iter().zip(&each) {
            prop_assert_eq!(holds(&!filter.clone()), !holds_alone);
        }
        let none = Filter::All(filters.iter().cloned().map(|filter| !filter).collect());
        prop_assert_eq!(holds(&!Filter::Any(filters)), holds(&none));
    }

    #[test]
    fn a_range_is_two_comparisons_and_a_list_is_several(field in field(), a in value(), b in value()) {
        let is = |is: Is| holds(&Filter::Test { field: field.clone(), is });
        let equal = |value: &Value| is(Is::Equal(value.clone()));
        prop_assert_eq!(is(Is::OneOf(vec![a.clone(), b.clone()])), equal(&a) || equal(&b));
        let up = is(Is::Between(Some(a.clone()), None));
        let down = is(Is::Between(None, Some(b.clone())));
        // A passage touches several pages and stands under several headings: then each may be another one.
        if field != "page" && field != "section" {
            prop_assert_eq!(is(Is::Between(Some(a.clone()), Some(b.clone()))), up && down);
            prop_assert!(!(is(Is::Less(a.clone())) && is(Is::More(a.clone()))));
            prop_assert!(!(is(Is::Less(a.clone())) && up), "less, and no less");
        }
        prop_assert!(!is(Is::More(a.clone())) || up);
        prop_assert!(!equal(&a) || up);
        prop_assert!(is(Is::Present) || !(up || down || equal(&a) || is(Is::Contains(String::new()))));
    }

    #[test]
    fn any_text_is_a_filter_or_an_error(text in "[a-c0-9 =<>!().,\"\\\\é]{0,30}|\\PC{0,20}") {
        if let Ok(filter) = Filter::parse(&text) {
            holds(&filter);
        }
    }
}
