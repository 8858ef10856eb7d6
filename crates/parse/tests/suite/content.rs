//! The operators of PDF pages: text, forms, annotations, optional content, and streams that would never end.

use logothete_parse::parse;
use rstest::rstest;

/// A page of 600 by 800 points with a content and resources, beside other objects that are numbered from 10.
struct OnePage<'p> {
    content: &'p str,
    resources: &'p str,
    /// More entries of the page, and of the catalogue.
    page: &'p str,
    catalogue: &'p str,
    objects: &'p [&'p str],
}

const PLAIN: OnePage<'static> = OnePage { content: "", resources: "", page: "", catalogue: "", objects: &[] };

fn stream(entries: &str, content: &str) -> String {
    format!("<< {entries} /Length {} >>\nstream\n{content}\nendstream", content.len())
}

impl OnePage<'_> {
    fn file(&self) -> Vec<u8> {
        let Self { content, resources, page, catalogue, objects } = self;
        let mut all = vec![
            format!("<< /Type /Catalog /Pages 2 0 R {catalogue} >>"),
            "<< /Type /Pages /Kids [3 0 R] /Count 1 >>".to_owned(),
            format!(
                "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 600 800] /Contents 4 0 R {page} \
                 /Resources << /Font << /F 5 0 R /G 6 0 R >> {resources} >> >>"
            ),
            stream("", content),
            "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>".to_owned(),
            "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica /FirstChar 65 /LastChar 67 /Widths [100 100 900] \
             /Encoding << /Differences [65 /X /Y /Z] >> >>"
                .to_owned(),
        ];
        all.resize(9, "null".to_owned());
        all.extend(objects.iter().map(|object| (*object).to_owned()));
        crate::common::file(&all)
    }

    fn text(&self) -> String {
        parse("page.pdf", &self.file()).expect("readable").text
    }
}

#[rstest]
#[case("BT /F 12 Tf 50 700 Td (The crane) Tj 0 -14 Td (is shut.) Tj ET", "The crane is shut.")]
#[case("BT /F 12 Tf 14 TL 50 700 Td (The crane) Tj T* (is shut.) Tj ET", "The crane is shut.")]
#[case("BT /F 12 Tf 50 700 Td (The crane) Tj 0 -14 TD (is) Tj (shut.) ' ET", "The crane is shut.")]
#[case("BT /F 12 Tf 14 TL 50 700 Td (The) Tj 2 0 (crane) \" ET", "The crane")]
#[case("BT /F 12 Tf 50 700 Td [(The c) 30 (ra) -20 (ne) -600 (is) -600 (shut.)] TJ ET", "The crane is shut.")]
#[case("BT /F 12 Tf 200 Tz 50 700 Td (The crane) Tj ET BT 50 Tz 400 700 Td (moves.) Tj ET", "The crane moves.")]
#[case("BT /F 12 Tf 1 0 0 1 50 700 Tm (E = m) Tj 7 Ts /F 7 Tf (2) Tj ET", "E = m²")]
#[case("q BT /F 12 Tf 50 700 Td (The) Tj ET Q Q Q BT /F 12 Tf 80 700 Td (crane) Tj ET", "The crane")]
#[case("BT /F 12 Tf 3 Tr 50 700 Td (unseen, as below a scan) Tj ET", "unseen, as below a scan")]
#[case("BT 12 0 0 12 50 700 Tm (No font is set.) Tj ET", "No font is set.")]
#[case("BT /Missing 12 Tf 50 700 Td (A font is missing.) Tj ET", "A font is missing.")]
#[case("BT /F 12 Tf 50 700 Td (before) Tj ET\n1 2 nonsense BT /F 12 Tf 90 700 Td (behind) Tj ET", "before behind")]
fn text_is_read_as_it_stands(#[case] content: &str, #[case] expected: &str) {
    assert_eq!(OnePage { content, ..PLAIN }.text(), expected);
}

#[test]
fn fonts_of_one_program_keep_their_own_codes_and_widths() {
    // Both fonts draw the code D alike, and only then differ.
    let content =
        "BT /F 12 Tf 50 700 Td (DABC) Tj ET BT /G 12 Tf 50 650 Td (DABC) Tj ET BT /F 12 Tf 50 600 Td (DABC) Tj ET";
    let text = OnePage { content, ..PLAIN }.text();
    assert_eq!(text.split_whitespace().collect::<Vec<_>>(), ["DABC", "DXYZ", "DABC"]);
    // A gap of one font's width is no gap in the other.
    let content = "BT /F 12 Tf 50 700 Td (DA) Tj /G 12 Tf (BBBBBBBBBB) Tj /F 12 Tf (K) Tj ET";
    assert_eq!(OnePage { content, ..PLAIN }.text(), "DAYYYYYYYYYYK");
}

#[test]
fn forms_are_read_in_place_and_with_their_own_resources() {
    let inner = stream(
        "/Type /XObject /Subtype /Form /BBox [0 0 300 100] /Matrix [1 0 0 1 40 600] /Resources << /Font << /F 6 0 R >> >>",
        "BT /F 12 Tf 0 0 Td (ABC) Tj ET",
    );
    let outer = stream(
        "/Type /XObject /Subtype /Form /BBox [0 0 600 800] /Resources << /XObject << /Inner 10 0 R >> /Font << /F 5 0 R >> >>",
        "BT /F 12 Tf 40 700 Td (The first of all the lines.) Tj ET /Inner Do 2 0 0 2 0 0 cm BT /F 12 Tf 20 250 Td (Last.) Tj ET",
    );
    let content = "q 1 0 0 1 10 0 cm /Outer Do Q BT /F 12 Tf 50 400 Td (Behind the form.) Tj ET";
    let resources = "/XObject << /Outer 11 0 R >>";
    let document = parse("page.pdf", &OnePage { content, resources, objects: &[&inner, &outer], ..PLAIN }.file());
    let document = document.expect("readable");
    let lines: Vec<&str> = document.blocks.iter().map(|block| document.block_text(block)).collect();
    assert_eq!(lines, ["The first of all the lines.", "XYZ", "Last.", "Behind the form."]);
}

#[rstest]
#[case::a_group_that_is_off("/OCProperties << /OCGs [10 0 R 11 0 R] /D << /OFF [10 0 R] >> >>", "shown")]
#[case::all_are_off_but_one("/OCProperties << /OCGs [10 0 R 11 0 R] /D << /BaseState /OFF /ON [11 0 R] >> >>", "shown")]
#[case::all_are_on("/OCProperties << /OCGs [10 0 R 11 0 R] /D << >> >>", "hidden shown")]
#[case::nothing_is_said("", "hidden shown")]
fn hidden_layers_are_not_read(#[case] catalogue: &str, #[case] expected: &str) {
    let groups = ["<< /Type /OCG /Name (a) >>", "<< /Type /OCG /Name (b) >>"];
    let resources = "/Properties << /A 10 0 R /B 11 0 R >>";
    let content =
        "/OC /A BDC BT /F 12 Tf 50 700 Td (hidden) Tj ET EMC /OC /B BDC BT /F 12 Tf 100 700 Td (shown) Tj ET EMC";
    assert_eq!(OnePage { content, resources, catalogue, objects: &groups, ..PLAIN }.text(), expected);
}

#[rstest]
#[case("/AnyOn", "rule after")]
#[case("/AllOn", "after")]
#[case("/AnyOff", "rule after")]
#[case("/AllOff", "after")]
fn a_rule_joins_layers(#[case] policy: &str, #[case] expected: &str) {
    let rule = format!("<< /Type /OCMD /OCGs [10 0 R 11 0 R] /P {policy} >>");
    let objects = ["<< /Type /OCG /Name (a) >>", "<< /Type /OCG /Name (b) >>", &rule];
    let page = OnePage {
        content: "/OC /R BDC /P BMC BT /F 12 Tf 50 700 Td (rule) Tj ET EMC EMC BT /F 12 Tf 90 700 Td (after) Tj ET",
        resources: "/Properties << /R 12 0 R >>",
        catalogue: "/OCProperties << /OCGs [10 0 R 11 0 R] /D << /OFF [10 0 R] >> >>",
        objects: &objects,
        ..PLAIN
    };
    assert_eq!(page.text(), expected);
}

#[rstest]
#[case::shown("", "/N 11 0 R", "Berth 7")]
#[case::hidden("/F 2", "/N 11 0 R", "")]
#[case::by_state("/AS /On", "/N << /On 11 0 R /Off 12 0 R >>", "Berth 7")]
#[case::in_no_state("", "/N << /On 11 0 R >>", "")]
fn the_appearance_of_an_annotation_is_read(#[case] entries: &str, #[case] appearance: &str, #[case] expected: &str) {
    let annotation =
        format!("<< /Type /Annot /Subtype /Widget /Rect [100 500 300 540] {entries} /AP << {appearance} >> >>");
    let form =
        |words: &str| stream("/Subtype /Form /BBox [0 0 100 20]", &format!("BT /F 10 Tf 5 5 Td ({words}) Tj ET"));
    let objects = [annotation.as_str(), &form("Berth 7"), &form("nothing")];
    assert_eq!(OnePage { page: "/Annots [10 0 R]", objects: &objects, ..PLAIN }.text(), expected);
}

#[test]
fn forms_that_draw_each_other_come_to_an_end() {
    let form = |other: &str| {
        stream(
            &format!("/Subtype /Form /BBox [0 0 600 800] /Resources << /XObject << /X {other} 0 R >> >>"),
            "/X Do /X Do /X Do",
        )
    };
    let (one, other) = (form("11"), form("10"));
    let page = OnePage {
        content: "/X Do BT /F 12 Tf 50 700 Td (The end is read.) Tj ET",
        resources: "/XObject << /X 10 0 R >>",
        objects: &[&one, &other],
        ..PLAIN
    };
    assert_eq!(page.text(), "The end is read.");
}

#[rstest]
#[case("q ")]
#[case("/A BMC ")]
#[case("BT ")]
#[case("0 0 m ")]
#[case("/F 1 Tf ")]
fn a_flood_of_one_operator_is_borne(#[case] operator: &str) {
    let content = format!("{} BT /F 12 Tf 1 0 0 1 50 700 Tm (The end is read.) Tj ET", operator.repeat(300_000));
    assert_eq!(OnePage { content: &content, ..PLAIN }.text(), "The end is read.");
}

#[test]
fn colours_and_functions_are_never_run() {
    // The function of this colour space is too deep for any reader that would run it.
    let function = stream("/FunctionType 4 /Domain [0 1] /Range [0 1]", &"{".repeat(55_000));
    let page = OnePage {
        content: "/S cs 0.5 scn 100 100 200 200 re f /P sh BT /F 12 Tf 50 700 Td (The crane is blue.) Tj ET",
        resources: "/ColorSpace << /S [/Separation /Blue /DeviceGray 10 0 R] >> \
                    /Shading << /P << /ShadingType 2 /ColorSpace /DeviceGray /Coords [0 0 1 1] /Function 10 0 R >> >>",
        objects: &[&function],
        ..PLAIN
    };
    assert_eq!(page.text(), "The crane is blue.");
}
