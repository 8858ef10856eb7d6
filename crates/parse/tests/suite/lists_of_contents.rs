//! Lists that only point to other places are told from lists that say something.

use logothete_core::document::{BlockKind, Document};
use logothete_parse::parse;
use rstest::rstest;

/// The texts of the blocks of a kind.
fn texts(document: &Document, kind: BlockKind) -> Vec<&str> {
    document.blocks.iter().filter(|block| block.kind == kind).map(|block| document.slice(block.span)).collect()
}

const PAGE: &str = "<html><body><h1>Harbour guide</h1><p>All parts of the guide stand on pages of their own.</p>";
const DUES: &str = "Dues are paid at the counter. The receipt names the vessel.";

#[rstest]
#[case::links_to_pages("a.html", &format!(
    "{PAGE}<ul><li><a href='dues.html'>1. Dues</a></li><li><a href='tugs.html'>2. Tugs</a><ul><li><a href='tugs.html#night'>2.1. Tugs at night</a></li>\
     </ul></li><li><a href='ice.html'>3. Ice</a></li></ul><p>{DUES}</p>"
), &["1. Dues", "2. Tugs", "2.1. Tugs at night", "3. Ice"])]
#[case::index_in_a_table("a.html", &format!(
    "{PAGE}<table><tr><th>Entry</th><th>Part</th></tr><tr><td><a href='#i'>anchorage, outer</a></td><td><a href='#p'>Pilotage in fog</a></td></tr>\
     <tr><td><a href='#b'>bollards, and their strength</a></td><td><a href='#q'>Quay walls and fenders</a></td></tr></table><p>{DUES}</p>"
), &["Entry | Part\nanchorage, outer | Pilotage in fog\nbollards, and their strength | Quay walls and fenders"])]
#[case::links_in_the_page("a.md", &format!(
    "# Guide\n\n- [Dues](#dues)\n- [Tugs](#tugs)\n- [Ice](#ice)\n- [Fog](#fog)\n\n{DUES}\n"
), &["Dues", "Tugs", "Ice", "Fog"])]
#[case::questions_that_are_answered_below("a.md", &format!(
    "# Questions\n\n1. Who signs?\n2. Where are dues paid?\n3. When is the gate shut?\n\n## 1. Who signs?\n\nThe master.\n\n## 2. Where are dues paid?\n\n\
     {DUES}\n\n## 3. When is the gate shut?\n\nAt ten.\n"
), &["Who signs?", "Where are dues paid?", "When is the gate shut?"])]
#[case::dots_that_lead_to_pages("a.txt", &format!(
    "1 Dues ........ 3\n2 Tugs . . . . . 14\n3 Ice and fog .......... xii\n\n{DUES}\n"
), &["1 Dues ........ 3\n2 Tugs . . . . . 14\n3 Ice and fog .......... xii"])]
fn a_list_that_points_is_a_list_of_contents(#[case] name: &str, #[case] text: &str, #[case] expected: &[&str]) {
    let document = parse(name, text.as_bytes()).expect("a document");
    assert_eq!(texts(&document, BlockKind::Contents), expected);
    assert_eq!(document.blocks.last().map(|block| block.kind), Some(BlockKind::Paragraph), "{DUES}");
}

#[rstest]
#[case::links_with_a_word_on_each("a.html", &format!(
    "{PAGE}<ul><li><a href='1.html'>Dues</a>: paid at the counter</li><li><a href='2.html'>Tugs</a>: ordered by radio</li>\
     <li><a href='3.html'>Ice</a>: from December on</li><li><a href='4.html'>Fog</a>: sound the horn</li></ul>"
))]
#[case::three_links("a.html", &format!(
    "{PAGE}<p>See also</p><ul><li><a href='1.html'>Dues</a></li><li><a href='2.html'>Tugs</a></li><li><a href='3.html'>Ice</a></li></ul>"
))]
#[case::links_to_other_places(
    "a.md",
    "# Links\n\n- [Tides](https://tides.example)\n- [Weather](https://weather.example)\n- [Ferries](https://ferries.example)\n- [Tugs](mailto:tugs@marrowby.example)\n"
)]
#[case::what_is_to_be_brought("a.md", "# Booking\n\n- licence\n- receipt\n- crew list\n- tonnage certificate\n")]
#[case::headings_above("a.md", "# Dues\n\n# Tugs\n\n# Ice\n\n- Dues\n- Tugs\n- Ice\n")]
#[case::sums("a.txt", "Harbour dues 3\nPilotage 14\nLight dues 12\n\nThe sum is 29.\n")]
fn a_list_that_says_something_stays(#[case] name: &str, #[case] text: &str) {
    let document = parse(name, text.as_bytes()).expect("a document");
    assert_eq!(texts(&document, BlockKind::Contents), Vec::<&str>::new());
}

#[test]
fn only_links_that_leave_the_document_are_kept() {
    let document = parse("a.md", b"# Guide\n\nSee [dues](#dues) and [tugs](tugs.md).\n").expect("a document");
    assert_eq!(document.links.iter().map(|link| link.target.as_str()).collect::<Vec<_>>(), ["tugs.md"]);
}
