//! Questions that are computed over tables, in five languages and several notations.

use logothete_core::document::{Document, DocumentBuilder, Table};
use logothete_core::table::{Computed, Grid, Operation, Outcome, Request, compute, joined};
use proptest::prelude::*;
use rstest::rstest;

const BERTHS: &[&str] = &[
    "Berth|Quay|Length (m)|Greatest draught (m)|Shore power (kW)|Last survey",
    "Berth 1|Fish Quay|55|4.2|40|2024-09-12",
    "Berth 2|Fish Quay|48|3.9|0|2024-09-13",
    "Berth 4|Customhouse Quay|80|5.6|80|2025-02-04",
    "Berth 7|Gasworks Quay|135|8.4|0|2025-03-06",
    "Berth 10|New Quay|140|7.5|250|2023-11-21",
    "Berth 11|New Quay|150|8.0|400|2023-11-22",
];

fn document(rows: &[&str], header_rows: usize) -> Document {
    let mut builder = DocumentBuilder::new("register.csv", "text/csv");
    let rows: Vec<Vec<&str>> = rows.iter().map(|row| row.split('|').collect()).collect();
    builder.table(header_rows, &rows);
    builder.finish()
}

fn table(document: &Document) -> &Table {
    document.blocks.iter().find_map(|block| block.table.as_ref()).expect("a table")
}

fn grid(rows: &[&str], title: &str) -> Grid {
    let document = document(rows, 1);
    Grid::read(table(&document), &document.text, title)
}

fn ask(question: &str, grids: &[Grid]) -> Option<Outcome> {
    compute(&Request::of(question)?, grids)
}

fn computed(question: &str, grids: &[Grid]) -> Computed {
    match ask(question, grids) {
        Some(Outcome::Computed(computed)) => computed,
        other => panic!("{question}: {other:?}"),
    }
}

/// The names of the rows of a result, and its number.
fn result(question: &str, grid: &Grid) -> (Vec<String>, Option<f64>) {
    let computed = computed(question, std::slice::from_ref(grid));
    (computed.rows.iter().map(|row| computed.name(grid, *row).to_owned()).collect(), computed.value)
}

#[rstest]
#[case("Which berth is the longest?", &["Berth 11"], None)]
#[case("What is the shortest berth?", &["Berth 2"], None)]
#[case("Which three berths are the longest?", &["Berth 11", "Berth 10", "Berth 7"], None)]
#[case("Which berth has the most shore power?", &["Berth 11"], None)]
#[case("At which berth is the greatest draught smallest?", &["Berth 2"], None)]
#[case("Which berth was surveyed most recently?", &["Berth 7"], None)]
#[case("Which berths have no shore power?", &["Berth 2", "Berth 7"], None)]
#[case("Which berths are about 50 metres long?", &["Berth 1", "Berth 2"], None)]
#[case("Which berths are longer than 0.1 km?", &["Berth 7", "Berth 10", "Berth 11"], None)]
#[case("How many berths are between 50 and 140 metres long?", &["Berth 1", "Berth 4", "Berth 7", "Berth 10"], Some(4.0))]
#[case("How many berths are on the Fish Quay?", &["Berth 1", "Berth 2"], Some(2.0))]
#[case("What is the total length of the berths on New Quay?", &["Berth 10", "Berth 11"], Some(290.0))]
#[case("What is the mean length of the berths on the Fish Quay?", &["Berth 1", "Berth 2"], Some(51.5))]
#[case("How much longer is Berth 11 than Berth 1?", &["Berth 1", "Berth 11"], Some(95.0))]
#[case("Is Berth 10 longer than Berth 11?", &["Berth 10", "Berth 11"], Some(10.0))]
fn questions_in_english(#[case] question: &str, #[case] rows: &[&str], #[case] value: Option<f64>) {
    let rows: Vec<String> = rows.iter().map(|row| (*row).to_owned()).collect();
    assert_eq!(result(question, &grid(BERTHS, "Register of berths")), (rows, value));
}

const GERMAN: &[&str] = &[
    "Liegeplatz|Kai|Länge (m)|Tiefe (m)",
    "Platz A|Nordkai|1.250,5|4,2",
    "Platz B|Nordkai|980,0|6,1",
    "Platz C|Südkai|1.100,0|5,0",
];
const FRENCH: &[&str] = &[
    "Poste|Quai|Longueur (m)|Profondeur (m)",
    "Poste A|Nord|1 250|4,2",
    "Poste B|Nord|980|6,1",
    "Poste C|Sud|1 100|5,0",
];
const SPANISH: &[&str] = &[
    "Muelle|Zona|Longitud (m)|Profundidad (m)",
    "Muelle A|Norte|1.250,0|4,2",
    "Muelle B|Norte|980,0|6,1",
    "Muelle C|Sur|1.100,0|5,0",
];
const ITALIAN: &[&str] = &[
    "Molo|Zona|Lunghezza (m)|Profondità (m)",
    "Molo A|Nord|1.250,0|4,2",
    "Molo B|Nord|980,0|6,1",
    "Molo C|Sud|1.100,0|5,0",
];

#[rstest]
#[case(GERMAN, "Welcher Liegeplatz ist am längsten?", &["Platz A"], None)]
#[case(GERMAN, "Welcher Liegeplatz ist der tiefste?", &["Platz B"], None)]
#[case(GERMAN, "Was ist die durchschnittliche Länge der Liegeplatz auf dem Nordkai?", &["Platz A", "Platz B"], Some(1115.25))]
#[case(FRENCH, "Quel poste est le plus long ?", &["Poste A"], None)]
#[case(FRENCH, "Quel poste est le moins profond ?", &["Poste A"], None)]
#[case(SPANISH, "¿Qué muelle es el más profundo?", &["Muelle B"], None)]
#[case(ITALIAN, "Quale molo è il più lungo?", &["Molo A"], None)]
#[case(ITALIAN, "Quale molo è il meno lungo?", &["Molo B"], None)]
fn questions_in_other_languages(
    #[case] rows: &[&str],
    #[case] question: &str,
    #[case] expected: &[&str],
    #[case] value: Option<f64>,
) {
    let expected: Vec<String> = expected.iter().map(|row| (*row).to_owned()).collect();
    assert_eq!(result(question, &grid(rows, "")), (expected, value));
}

#[rstest]
#[case("When is the lock open?")]
#[case("Which is the best way to moor?")]
#[case("How do I order a pilot?")]
#[case("What is the longest word?")]
#[case("Why is the mole the safest place in a gale?")]
#[case("")]
fn other_questions_are_left_alone(#[case] question: &str) {
    assert_eq!(ask(question, &[grid(BERTHS, "Register of berths")]), None, "{question}");
}

#[test]
fn a_doubtful_column_is_named_and_nothing_is_computed() {
    let rows = ["Crane|Length of boom (m)|Length of rope (m)", "Crane 1|20|60", "Crane 2|30|50"];
    let outcome = ask("Which crane is the longest?", &[grid(&rows, "")]);
    assert_eq!(outcome, Some(Outcome::Unclear { grid: 0, columns: vec![1, 2] }));
}

#[test]
fn currencies_are_never_compared() {
    let rows = ["Fee|Amount", "Fee A|€ 12", "Fee B|$ 9", "Fee C|€ 7"];
    assert_eq!(ask("Which fee is the cheapest?", &[grid(&rows, "")]), None);
    let rows = ["Fee|Amount", "Fee A|€ 12", "Fee B|€ 9", "Fee C|€ 7"];
    assert_eq!(result("Which fee is the cheapest?", &grid(&rows, "")).0, ["Fee C"]);
}

#[test]
fn units_of_cells_are_converted() {
    let rows = ["Cable|Length", "Cable A|900 m", "Cable B|1.2 km", "Cable C|300 m"];
    assert_eq!(result("Which cable is the longest?", &grid(&rows, "")).0, ["Cable B"]);
    let rows = ["Berth|Shore power (kW)", "Berth ١|١٢٣", "Berth ٢|٤٥"];
    assert_eq!(result("Which berth has the most shore power?", &grid(&rows, "")).0, ["Berth ١"]);
}

#[test]
fn totals_merged_and_empty_cells_are_not_counted_twice() {
    let rows = ["Day|Lorries", "Monday|20", "Tuesday|–", "Wednesday|6", "Total|26"];
    let (rows, value) = result("How many lorries are there in all?", &grid(&rows, "Lorries"));
    assert_eq!((rows.len(), value), (2, Some(26.0)));
}

#[test]
fn tables_of_the_same_columns_are_one() {
    let first = grid(&["Date|Work|Hours", "2025-01-22|Linings|11,840", "2025-04-16|Rope|12,105"], "Crane 1");
    let second = grid(&["Date|Work|Hours", "2025-03-03|Rope|20,417", "2025-01-22|Linings|11,840"], "Crane 2");
    let all = joined(vec![first, second]);
    assert_eq!((all.len(), all[0].rows.len()), (1, 3), "a row that is there already is left out");
    let computed = computed("Which work has the most hours?", &all);
    assert_eq!((all[0].rows[computed.rows[0]].table, computed.considered), (1, 3));
}

#[test]
fn what_was_computed_is_said_with_the_values_of_the_table() {
    let grid = grid(BERTHS, "Register of berths");
    let said = |question: &str| computed(question, std::slice::from_ref(&grid)).in_words(&grid);
    let questions = [
        "Which berth is the longest?",
        "Which two berths are the longest?",
        "How many berths are on the Fish Quay?",
        "What is the mean length of the berths on the Fish Quay?",
        "What is the total length of the berths on New Quay?",
        "How much longer is Berth 11 than Berth 1?",
        "Is Berth 10 longer than Berth 11?",
        "Which berths have no shore power?",
        "List the berths in order of length",
    ];
    let all: Vec<String> = questions.iter().map(|question| format!("{question}\n  {}", said(question))).collect();
    insta::assert_snapshot!(all.join("\n"));
}

#[test]
fn a_hundred_thousand_rows_give_the_right_answer() {
    let mut rows = vec!["Buoy|Depth (m)".to_owned()];
    rows.extend((0..100_000).map(|number| format!("Buoy {number}|{}.{}", number % 977, number % 10)));
    rows.push("Buoy last|9999.5".to_owned());
    let rows: Vec<&str> = rows.iter().map(String::as_str).collect();
    let grid = grid(&rows, "Buoys");
    assert_eq!(result("Which buoy is the deepest?", &grid).0, ["Buoy last"]);
    assert_eq!(computed("Which buoy is the deepest?", &[grid]).considered, 100_001);
}

proptest! {
    #[test]
    fn the_greatest_is_the_greatest(values in prop::collection::vec(-10_000_i32..10_000, 1..40)) {
        let mut rows = vec!["Berth|Depth".to_owned()];
        rows.extend(values.iter().enumerate().map(|(at, value)| format!("Berth {at}|{value}")));
        let grid = grid(&rows.iter().map(String::as_str).collect::<Vec<_>>(), "");
        let found = computed("Which berth is the deepest?", std::slice::from_ref(&grid));
        let greatest = values.iter().max().copied().unwrap_or_default();
        for row in &found.rows {
            prop_assert_eq!(grid.rows[*row].cells[1].text.parse::<i32>().ok(), Some(greatest));
        }
        prop_assert_eq!(found.rows.len(), values.iter().filter(|value| **value == greatest).count());
        prop_assert_eq!(found.operation, Operation::Greatest(1));
    }

    #[test]
    fn nothing_panics(question in "(Which|How many|Is|What is the total|Welcher)? ?[a-zA-Z0-9 .,]{0,40}( longest| than| no| most|€ 9)?", cell in "[0-9a-z€%.,| -]{0,12}") {
        let rows = ["Berth|Depth (m)|Day".to_owned(), format!("Berth 1|{cell}|2025-01-01"), "Berth 2|4|".to_owned()];
        let grid = grid(&rows.iter().map(String::as_str).collect::<Vec<_>>(), &question);
        if let Some(Outcome::Computed(computed)) = ask(&question, std::slice::from_ref(&grid)) {
            prop_assert!(!computed.in_words(&grid).is_empty());
        }
    }
}
