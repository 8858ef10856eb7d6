//! The operators of PDF pages: text, forms, annotations, optional content, and streams that would never end.

use logothete_core::document::BlockKind;
use logothete_parse::parse;
use proptest::prelude::*;
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

#[test]
fn forms_that_multiply_come_to_an_end() {
    // Each form draws the next one four times: 4 to the power of 20 in all.
    let form = |next: usize| {
        stream(
            &format!("/Subtype /Form /BBox [0 0 600 800] /Resources << /XObject << /X {next} 0 R >> >>"),
            "/X Do /X Do /X Do /X Do",
        )
    };
    let forms: Vec<String> = (11..=30).map(form).collect();
    let objects: Vec<&str> = forms.iter().map(String::as_str).collect();
    let page = OnePage {
        content: "/X Do BT /F 12 Tf 50 700 Td (The end is read.) Tj ET",
        resources: "/XObject << /X 10 0 R >>",
        objects: &objects,
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

/// A map from codes to text, as fonts have it.
fn to_unicode(entries: &str) -> String {
    let map = format!(
        "/CIDInit /ProcSet findresource begin 12 dict begin begincmap /CMapType 2 def \
         1 begincodespacerange <00> <ff> endcodespacerange {entries} endcmap end end"
    );
    stream("", &map)
}

#[rstest]
#[case::a_letter_each("2 beginbfchar <41> <0391> <42> <0392> endbfchar", "ΑΒ")]
#[case::several_letters("1 beginbfchar <41> <006600660069> endbfchar", "ffiB")]
#[case::a_ligature("1 beginbfchar <41> <FB01> endbfchar", "fiB")]
#[case::a_range("1 beginbfrange <41> <42> <0430> endbfrange", "аб")]
#[case::a_soft_hyphen("1 beginbfchar <42> <00AD> endbfchar", "A-")]
fn a_font_says_what_its_codes_mean(#[case] entries: &str, #[case] expected: &str) {
    let font = "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica /ToUnicode 10 0 R >>";
    let page = OnePage {
        content: "/P gs BT 1 0 0 1 50 700 Tm (AB) Tj ET",
        resources: "/ExtGState << /P << /Font [11 0 R 12] >> >>",
        objects: &[&to_unicode(entries), font],
        ..PLAIN
    };
    assert_eq!(page.text(), expected);
}

#[test]
fn codes_of_two_bytes_are_read() {
    let map =
        "1 begincodespacerange <0000> <ffff> endcodespacerange 2 beginbfchar <0001> <6C34> <0002> <6DF1> endbfchar";
    let composite = "<< /Type /Font /Subtype /Type0 /BaseFont /Any /Encoding /Identity-H /DescendantFonts [12 0 R] \
                     /ToUnicode 10 0 R >>";
    let descendant = "<< /Type /Font /Subtype /CIDFontType2 /BaseFont /Any /DW 1000 \
                      /CIDSystemInfo << /Registry (Adobe) /Ordering (Identity) /Supplement 0 >> >>";
    let page = OnePage {
        content: "/P gs BT 1 0 0 1 50 700 Tm <00010002> Tj ET",
        resources: "/ExtGState << /P << /Font [11 0 R 12] >> >>",
        objects: &[&stream("", map), composite, descendant],
        ..PLAIN
    };
    assert_eq!(page.text(), "水深");
}

#[test]
fn a_font_that_draws_its_own_glyphs_is_read_by_its_names() {
    let font = "<< /Type /Font /Subtype /Type3 /FontBBox [0 0 1000 1000] /FontMatrix [0.001 0 0 0.001 0 0] \
                /FirstChar 97 /LastChar 98 /Widths [1000 1000] /CharProcs << /b 10 0 R /e 10 0 R >> \
                /Encoding << /Differences [97 /b /e] >> >>";
    let glyph = stream("", "1000 0 0 0 750 750 d1 0 0 750 750 re f");
    let page = OnePage {
        content: "/P gs BT 1 0 0 1 50 700 Tm (ab) Tj ET",
        resources: "/ExtGState << /P << /Font [11 0 R 12] >> >>",
        objects: &[&glyph, font],
        ..PLAIN
    };
    assert_eq!(page.text(), "be");
}

#[test]
fn roles_come_from_the_tags() {
    let page = OnePage {
        content: "/H1 << /MCID 0 >> BDC BT /F 12 Tf 50 700 Td (Berths) Tj ET EMC \
                  /P << /MCID 1 >> BDC BT /F 12 Tf 50 660 Td (Berth 7 is dredged, and it is open again.) Tj ET EMC \
                  /Artifact BMC BT /F 12 Tf 50 600 Td (Harbour office) Tj ET EMC",
        page: "/StructParents 0",
        catalogue: "/MarkInfo << /Marked true >> /StructTreeRoot 10 0 R",
        objects: &[
            "<< /Type /StructTreeRoot /K [11 0 R 12 0 R] >>",
            "<< /Type /StructElem /S /H1 /P 10 0 R /Pg 3 0 R /K 0 >>",
            "<< /Type /StructElem /S /P /P 10 0 R /Pg 3 0 R /K 1 >>",
        ],
        ..PLAIN
    };
    let document = parse("page.pdf", &page.file()).expect("readable");
    let blocks: Vec<(BlockKind, &str)> =
        document.blocks.iter().map(|block| (block.kind, document.block_text(block))).collect();
    assert_eq!(
        blocks,
        [
            (BlockKind::Heading, "Berths"),
            (BlockKind::Paragraph, "Berth 7 is dredged, and it is open again."),
            (BlockKind::Furniture, "Harbour office"),
        ]
    );
}

#[rstest]
#[case::an_object("q 200 0 0 150 100 400 cm /I Do Q", 1)]
#[case::inline("q 200 0 0 150 100 400 cm BI /W 1 /H 1 /CS /G /BPC 8 ID x EI Q", 1)]
#[case::without_pixels("q 200 0 0 150 100 400 cm /Empty Do Q", 0)]
#[case::in_a_hidden_layer("/OC /L BDC q 200 0 0 150 100 400 cm /I Do Q EMC", 0)]
fn pictures_are_noted_and_not_decoded(#[case] drawn: &str, #[case] figures: usize) {
    // No reader could decode a picture of this size.
    let picture = |width: u32| {
        stream(
            &format!(
                "/Subtype /Image /Width {width} /Height 400000 /ColorSpace /DeviceGray /BitsPerComponent 8 /Filter /JPXDecode"
            ),
            "nothing",
        )
    };
    let page = OnePage {
        content: &format!("{drawn} BT /F 12 Tf 50 700 Td (A picture of the lock gate stands below.) Tj ET"),
        resources: "/XObject << /I 10 0 R /Empty 11 0 R >> /Properties << /L 12 0 R >>",
        catalogue: "/OCProperties << /OCGs [12 0 R] /D << /OFF [12 0 R] >> >>",
        objects: &[&picture(400_000), &picture(0), "<< /Type /OCG /Name (pictures) >>"],
        ..PLAIN
    };
    let document = parse("page.pdf", &page.file()).expect("readable");
    assert_eq!(document.blocks.iter().filter(|block| block.kind == BlockKind::Figure).count(), figures);
    assert!(document.text.contains("A picture of the lock gate"), "{}", document.text);
}

#[rstest]
#[case("0 g", 1)]
#[case("0.8 g", 1)]
#[case("1 g", 0)]
#[case("0 0 0 0 k", 0)]
#[case("/DeviceRGB cs 1 1 1 sc", 0)]
#[case("/DeviceRGB cs 0.7 0.8 1 sc", 1)]
#[case("/Spot cs 0 scn", 0)]
#[case("/Spot cs 0.3 scn", 1)]
#[case("/Clear gs 0 g", 0)]
fn prose_on_a_tint_stands_beside_the_text(#[case] colour: &str, #[case] asides: usize) {
    let mut content = format!("q {colour} 340 480 200 200 re f Q ");
    for row in 0..8 {
        let y = 660 - 20 * row;
        content += &format!("BT /F 10 Tf 50 {y} Td (The ferry leaves from the east quay at {row}.) Tj ET ");
        content += &format!("BT /F 10 Tf 350 {y} Td (Dogs travel free of charge {row}.) Tj ET ");
    }
    let page = OnePage {
        content: &content,
        resources: "/ColorSpace << /Spot [/Separation /Teal /DeviceCMYK 10 0 R] >> /ExtGState << /Clear << /ca 0 >> >>",
        ..PLAIN
    };
    let document = parse("page.pdf", &page.file()).expect("readable");
    let text = document.text.replace('\n', " ");
    let is_whole = text.contains("Dogs travel free of charge 0. Dogs travel free of charge 1.");
    assert!(is_whole, "{text}");
    let asides_found = document.blocks.iter().filter(|block| block.kind == BlockKind::Quotation).count();
    assert_eq!(asides_found, asides, "{text}");
}

/// Operators with operands, right and wrong.
fn operator() -> impl Strategy<Value = String> {
    let operand = prop_oneof![
        (-1.0e9_f64..1.0e9).prop_map(|number| format!("{number}")),
        (-20_i32..20).prop_map(|number| number.to_string()),
        Just("99999999999999999999".to_owned()),
        Just("(AB\\))".to_owned()),
        Just("<00ff4>".to_owned()),
        Just("[(A) -120 (B) [1 2]]".to_owned()),
        Just("/F".to_owned()),
        Just("/X".to_owned()),
        Just("<< /MCID 3 /OC 1 0 R >>".to_owned()),
    ];
    let names: Vec<&str> =
        "q Q cm w J j M d ri i gs m l c v y h re S s f F f* B B* b b* n W W* CS cs SC SCN sc scn G g RG rg K k sh \
                            Do BI ID EI Tc Tw Tz TL Tf Tr Ts BT ET Td TD Tm T* Tj TJ ' \" d0 d1 MP DP BMC BDC EMC BX EX"
            .split_whitespace()
            .collect();
    (prop::collection::vec(operand, 0..7), prop::sample::select(names))
        .prop_map(|(operands, name)| format!("{} {name}\n", operands.join(" ")))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Whatever a page holds, reading it ends, and every glyph that was placed is in the text once.
    #[test]
    fn no_content_stream_ends_in_a_panic(operators in prop::collection::vec(operator(), 0..60)) {
        let content = operators.concat();
        let form = stream("/Subtype /Form /BBox [0 0 600 800]", &content);
        let page = OnePage { content: &content, resources: "/XObject << /X 10 0 R >>", objects: &[&form], ..PLAIN };
        if let Ok(document) = parse("page.pdf", &page.file()) {
            for block in &document.blocks {
                prop_assert!(document.text.get(block.span.range()).is_some());
            }
        }
    }
}
