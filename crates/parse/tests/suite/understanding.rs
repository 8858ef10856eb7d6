//! What is understood of a page beyond its words, on PDFs made here with several fonts, links, tags, outlines and pictures.

use std::fmt::Write;

use logothete_core::document::{BlockKind, Budget, Document, Input, Parser};
use logothete_parse::{PdfParser, area_picture, outlined_page, page_picture, parse, png};
use rstest::rstest;

/// Regular, bold, of one width, slanted.
const FONTS: [(&str, &str); 4] =
    [("R", "Helvetica"), ("B", "Helvetica-Bold"), ("C", "Courier"), ("I", "Helvetica-Oblique")];

/// A file that is being made. Places are points from the lower left corner of pages of 600 by 800.
#[derive(Default)]
struct File {
    pages: Vec<Page>,
    /// Added to the catalogue, and objects from number 100 on that it points to.
    catalogue: String,
    objects: Vec<(usize, String)>,
}

#[derive(Default)]
struct Page {
    stream: String,
    /// Added to the page.
    extra: String,
}

impl Page {
    fn say(mut self, font: &str, size: f64, x: f64, y: f64, words: &str) -> Self {
        writeln!(self.stream, "BT /{font} {size} Tf 1 0 0 1 {x} {y} Tm ({words}) Tj ET").expect("a string takes it");
        self
    }

    /// Lines of prose below one another, eight words each.
    fn prose(mut self, x: f64, top: f64, lines: usize, tag: &str) -> Self {
        for line in 0..lines {
            let words = format!("{tag}{line} keeps the watch until the tide has turned");
            self = self.say("R", 10.0, x, top - 12.0 * line as f64, &words);
        }
        self
    }

    fn rule(mut self, x: f64, y: f64, to: f64) -> Self {
        writeln!(self.stream, "0.6 w {x} {y} m {to} {y} l S").expect("a string takes it");
        self
    }

    fn raw(mut self, operators: &str) -> Self {
        writeln!(self.stream, "{operators}").expect("a string takes it");
        self
    }

    fn with(mut self, extra: &str) -> Self {
        self.extra.push_str(extra);
        self
    }

    /// Rows of cells at the given places, the first row bold.
    fn rows(mut self, columns: &[f64], top: f64, rows: &[&[&str]]) -> Self {
        for (index, row) in rows.iter().enumerate() {
            for (x, cell) in columns.iter().zip(*row) {
                let font = if index == 0 { "B" } else { "R" };
                self = self.say(font, 10.0, *x, top - 14.0 * index as f64, cell);
            }
        }
        self
    }
}

impl File {
    fn of(pages: impl IntoIterator<Item = Page>) -> Self {
        Self { pages: pages.into_iter().collect(), ..Self::default() }
    }

    fn bytes(&self) -> Vec<u8> {
        let mut objects: Vec<(usize, String)> = Vec::new();
        let kids: Vec<String> = (0..self.pages.len()).map(|page| format!("{} 0 R", 20 + 2 * page)).collect();
        objects.push((1, format!("<< /Type /Catalog /Pages 2 0 R {} >>", self.catalogue)));
        objects.push((2, format!("<< /Type /Pages /Kids [{}] /Count {} >>", kids.join(" "), self.pages.len())));
        let fonts: String =
            FONTS.iter().enumerate().map(|(index, (key, _))| format!("/{key} {} 0 R ", 3 + index)).collect();
        for (index, (_, name)) in FONTS.iter().enumerate() {
            objects.push((3 + index, format!("<< /Type /Font /Subtype /Type1 /BaseFont /{name} >>")));
        }
        // Two pixels, one dark and one light.
        objects.push((
            10,
            "<< /Type /XObject /Subtype /Image /Width 2 /Height 1 /BitsPerComponent 8 /ColorSpace /DeviceGray /Length 2 >>\nstream\n\x10\x7f\nendstream".to_owned(),
        ));
        for (index, page) in self.pages.iter().enumerate() {
            objects.push((
                20 + 2 * index,
                format!(
                    "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 600 800] /Contents {} 0 R {} \
                     /Resources << /Font << {fonts} >> /XObject << /P 10 0 R >> >> >>",
                    21 + 2 * index,
                    page.extra
                ),
            ));
            objects.push((
                21 + 2 * index,
                format!("<< /Length {} >>\nstream\n{}\nendstream", page.stream.len(), page.stream),
            ));
        }
        objects.extend(self.objects.iter().cloned());
        objects.sort();
        let mut out = b"%PDF-1.4\n".to_vec();
        let mut table = String::new();
        for (number, object) in &objects {
            write!(table, "{number} 1\n{:010} 00000 n \n", out.len()).expect("a string takes it");
            out.extend(format!("{number} 0 obj\n{object}\nendobj\n").bytes());
        }
        let start = out.len();
        out.extend(format!("xref\n0 1\n0000000000 65535 f \n{table}trailer << /Size 400 /Root 1 0 R >>\nstartxref\n{start}\n%%EOF\n").bytes());
        out
    }

    fn read(&self) -> Document {
        parse("made.pdf", &self.bytes()).expect("it is readable")
    }
}

fn of_kind(document: &Document, kind: BlockKind) -> Vec<&str> {
    document.blocks.iter().filter(|block| block.kind == kind).map(|block| document.block_text(block)).collect()
}

fn tables(document: &Document) -> Vec<(usize, Vec<Vec<&str>>)> {
    let all = document.blocks.iter().filter_map(|block| block.table.as_ref());
    let cells = |table: &logothete_core::document::Table| {
        table.rows.iter().map(|row| row.cells.iter().map(|cell| document.slice(*cell)).collect()).collect()
    };
    all.map(|table| (table.header_rows, cells(table))).collect()
}

#[test]
fn bold_lines_that_stand_apart_are_headings_and_bold_words_are_not() {
    let page = Page::default()
        .prose(60.0, 740.0, 4, "a")
        .say("B", 10.0, 60.0, 680.0, "Moorings in winter")
        .prose(60.0, 662.0, 4, "b")
        .say("B", 10.0, 60.0, 600.0, "Never")
        .say("R", 10.0, 92.0, 600.0, "stand between a taut line and the quay.")
        .say("I", 10.0, 60.0, 570.0, "Leaning words are none either, by themselves")
        .prose(60.0, 552.0, 3, "c");
    let document = File::of([page]).read();
    assert_eq!(of_kind(&document, BlockKind::Heading), ["Moorings in winter"]);
}

#[test]
fn a_head_word_between_two_rules_heads_its_entry_and_its_meaning_does_not() {
    let entry = |page: Page, y: f64, word: &str, meaning: &str| {
        page.rule(60.0, y + 16.0, 540.0)
            .say("C", 10.0, 70.0, y, word)
            .say("I", 10.0, 200.0, y, meaning)
            .rule(60.0, y - 10.0, 540.0)
            .prose(60.0, y - 40.0, 5, word)
    };
    let page = entry(Page::default(), 740.0, "belay", "Make a line fast");
    let page = entry(page, 600.0, "warp", "Move a vessel by her lines");
    let document = entry(page, 460.0, "fend", "Keep her off the quay").read_alone();
    assert_eq!(of_kind(&document, BlockKind::Heading), ["belay", "warp", "fend"]);
    assert!(of_kind(&document, BlockKind::Paragraph).contains(&"Move a vessel by her lines"));
}

impl Page {
    fn read_alone(self) -> Document {
        File::of([self]).read()
    }
}

#[test]
fn level_rules_alone_make_a_table() {
    let page = Page::default()
        .prose(60.0, 760.0, 3, "a")
        .rule(60.0, 700.0, 420.0)
        .rows(
            &[64.0, 200.0, 330.0],
            688.0,
            &[&["Berth", "Quay", "Depth"], &["1", "Fish Quay", "4.2"], &["2", "New Quay", "7.5"]],
        )
        .rule(60.0, 683.0, 420.0)
        .rule(60.0, 654.0, 420.0)
        .prose(60.0, 630.0, 3, "b");
    let document = page.read_alone();
    let expected = vec![vec!["Berth", "Quay", "Depth"], vec!["1", "Fish Quay", "4.2"], vec!["2", "New Quay", "7.5"]];
    assert_eq!(tables(&document), [(1, expected)]);
    assert!(document.to_markdown().contains("| Berth | Quay | Depth |\n| --- | --- | --- |\n| 1 | Fish Quay | 4.2 |"));
}

#[test]
fn rows_that_align_without_rules_make_a_table_and_wrapped_cells_stay_in_their_row() {
    let page = Page::default()
        .prose(60.0, 760.0, 3, "a")
        .rows(
            &[64.0, 160.0, 330.0],
            690.0,
            &[&["Berth", "Use", "Length"], &["1", "Fishing vessels", "55"], &["2", "Stores, waste", "80"]],
        )
        .say("R", 10.0, 160.0, 651.0, "and fuel")
        .rows(&[64.0, 160.0, 330.0], 637.0, &[&["", "", ""], &["3", "Timber", "140"], &["4", "Containers", "150"]])
        .prose(60.0, 570.0, 3, "b");
    let document = page.read_alone();
    let found = tables(&document);
    assert_eq!(found.len(), 1, "{}", document.text);
    assert_eq!(found[0].1[2], ["2", "Stores, waste and fuel", "80"]);
    assert_eq!(found[0].1.len(), 5);
}

#[rstest]
#[case::code(&["let depth = 6.2;     // metres", "let berth = \"B-7\";   // a name", "let crane = true;    // or not", "ring(depth, berth);  // the bell"], "C")]
#[case::index(&["absolute, 12       mean, 44", "berth, 3, 9        north, 7", "crane, 18          open, 21", "dues, 2            quay, 5"], "R")]
#[case::contents(&["Channels           3", "Signals            9", "Pilots             14", "Berths             22"], "R")]
fn what_only_looks_like_a_table_stays_text(#[case] lines: &[&str], #[case] font: &str) {
    let mut page = Page::default().prose(60.0, 760.0, 3, "a");
    for (index, line) in lines.iter().enumerate() {
        let y = 690.0 - 14.0 * index as f64;
        // In type of differing widths the second part stands at a place of its own.
        match line.split_once("   ") {
            Some((left, right)) if font == "R" => {
                page = page.say(font, 10.0, 60.0, y, left).say(font, 10.0, 300.0, y, right.trim());
            }
            _ => page = page.say(font, 10.0, 60.0, y, line),
        }
    }
    assert_eq!(tables(&page.prose(60.0, 600.0, 3, "b").read_alone()), []);
}

#[test]
fn a_table_over_two_pages_is_one_and_its_header_is_said_once() {
    let columns = [64.0, 200.0, 330.0];
    let head: &[&str] = &["Buoy", "Where", "Depth"];
    let row = |number: usize| [format!("V{number}"), "Outer Basin".to_owned(), format!("{}.5", number % 9)];
    let page = |numbers: std::ops::Range<usize>, top: f64| {
        let rows: Vec<[String; 3]> = numbers.map(row).collect();
        let cells: Vec<Vec<&str>> = rows.iter().map(|row| row.iter().map(String::as_str).collect()).collect();
        let mut all = vec![head];
        all.extend(cells.iter().map(Vec::as_slice));
        let foot = top - 14.0 * rows.len() as f64;
        let page = Page::default().rule(60.0, top + 12.0, 420.0).rule(60.0, top - 4.0, 420.0);
        page.rows(&columns, top, &all).rule(60.0, foot - 4.0, 420.0)
    };
    let first = page(1..11, 250.0).prose(60.0, 700.0, 3, "a").say("B", 10.0, 60.0, 300.0, "Table 4. Buoys");
    let second = page(11..16, 740.0).say("R", 10.0, 60.0, 770.0, "Table 4 \\(continued\\)").prose(60.0, 500.0, 3, "b");
    let document = File::of([first, second]).read();
    let found = tables(&document);
    assert_eq!(found.len(), 1, "{}", document.text);
    assert_eq!((found[0].0, found[0].1.len()), (1, 16));
    let block = document.blocks.iter().find(|block| block.kind == BlockKind::Table).expect("the table");
    assert_eq!(document.block_pages(block).map(|pages| (pages.first, pages.last)), Some((1, 2)));
    let table = block.table.as_ref().expect("its rows");
    assert_eq!(document.pages(table.rows[12].span).map(|pages| pages.first), Some(2));
    let places: Vec<u32> = document.block_areas(block).iter().map(|place| place.page).collect();
    assert_eq!(places, [1, 2]);
}

#[test]
fn footnotes_stand_behind_what_refers_to_them() {
    let one = Page::default()
        .prose(60.0, 740.0, 6, "a")
        .say("R", 10.0, 60.0, 650.0, "The bell is rung by day")
        .say("R", 6.0, 161.5, 654.0, "1")
        .say("R", 10.0, 60.0, 638.0, "and by night as well, unless the tower has been told that the whole of")
        .rule(60.0, 90.0, 160.0)
        .say("R", 6.0, 60.0, 81.0, "1")
        .say("R", 8.0, 64.0, 78.0, "Since the horn fell silent.");
    let two = Page::default().say("R", 10.0, 60.0, 740.0, "the crew is asleep.").prose(60.0, 700.0, 6, "b");
    let document = File::of([one, two]).read();
    assert_eq!(of_kind(&document, BlockKind::Footnote), ["¹ Since the horn fell silent."]);
    let paragraph =
        of_kind(&document, BlockKind::Paragraph).into_iter().find(|text| text.contains("The bell")).expect("it");
    assert!(paragraph.contains("by day¹ and by night"), "{paragraph}");
    assert!(paragraph.ends_with("the whole of the crew is asleep."), "{paragraph}");
}

#[test]
fn figures_have_captions_places_and_pictures() {
    let drawing: String = (0..12)
        .map(|step| {
            format!("{} 500 m {} 560 {} 590 {} 610 c S\n", 100 + 10 * step, 110 + 9 * step, 120 + 8 * step, 180)
        })
        .collect();
    let page = Page::default()
        .prose(60.0, 740.0, 4, "a")
        .raw(&drawing)
        .say("R", 8.0, 150.0, 540.0, "tide")
        .say("R", 10.0, 100.0, 480.0, "Figure 2. The tide in June")
        .raw("q 120 0 0 60 300 400 cm /P Do Q")
        .prose(60.0, 340.0, 4, "b");
    let file = File::of([page]);
    let document = file.read();
    let figures: Vec<_> = document.blocks.iter().filter_map(|block| block.figure).collect();
    assert_eq!(figures.len(), 2, "{:?}", document.blocks);
    assert_eq!(of_kind(&document, BlockKind::Figure), ["tide", ""]);
    assert_eq!(of_kind(&document, BlockKind::Caption), ["Figure 2. The tide in June"]);
    let area = figures[1].area;
    assert!((area.left - 300.0).abs() < 1.0 && (area.top - 340.0).abs() < 1.0 && (area.width() - 120.0).abs() < 1.0);
    let picture = area_picture(&file.bytes(), None, 1, area, 2.0).expect("a picture");
    assert_eq!((picture.width, picture.height), (240, 120));
    assert!(
        picture.pixels[0] < 60 && picture.pixels[picture.pixels.len() - 1] > 60,
        "dark on the left, light on the right"
    );
    assert!(png(&picture).expect("a PNG").starts_with(b"\x89PNG"));
}

#[test]
fn the_bars_and_axes_of_a_plot_are_part_of_it() {
    let curve: String = (0..10)
        .map(|step| {
            format!("{} 500 m {} 520 {} 530 {} 540 c S\n", 100 + 10 * step, 105 + 10 * step, 110 + 10 * step, 140)
        })
        .collect();
    let page =
        Page::default().prose(60.0, 740.0, 4, "a").raw(&curve).raw("0.6 w 150 500 m 150 620 l S 90 495 m 260 495 l S");
    let document = page.prose(60.0, 340.0, 4, "b").read_alone();
    let areas: Vec<_> = document.blocks.iter().filter_map(|block| block.figure).map(|place| place.area).collect();
    assert_eq!(areas.len(), 1);
    assert!(areas[0].top <= 180.5 && areas[0].left <= 90.5 && areas[0].right >= 259.5, "{areas:?}");
}

#[test]
fn code_keeps_its_lines_indents_and_blanks() {
    let page = Page::default()
        .prose(60.0, 740.0, 5, "a")
        .say("C", 10.0, 72.0, 660.0, "if fog then")
        .say("C", 10.0, 84.0, 648.0, "ring(bell)   # every minute")
        .say("C", 10.0, 72.0, 624.0, "end if;")
        .prose(60.0, 590.0, 5, "b");
    let document = page.read_alone();
    assert_eq!(of_kind(&document, BlockKind::Code), ["if fog then\n  ring(bell)   # every minute\n\nend if;"]);
}

#[test]
fn turned_text_is_read_and_a_turned_page_is_read_upright() {
    let aside =
        Page::default().prose(60.0, 740.0, 5, "a").raw("BT /R 9 Tf 0 1 -1 0 30 200 Tm (Chart of the harbour) Tj ET");
    let document = aside.read_alone();
    assert_eq!(document.blocks.last().map(|block| document.block_text(block)), Some("Chart of the harbour"));

    let lines: String = (0..6)
        .map(|line| {
            format!(
                "BT /R 10 Tf 0 1 -1 0 {} 60 Tm (line{line} of a page that lies on its side) Tj ET\n",
                100 + 12 * line
            )
        })
        .collect();
    let document = Page::default().raw(&lines).read_alone();
    assert!(document.text.starts_with("line0 of a page that lies on its side line1 of a page"), "{}", document.text);
    let place = document.block_areas(&document.blocks[0])[0].area;
    assert!(place.height() > place.width(), "its place is that on the page as it is shown: {place:?}");
}

#[test]
fn a_stamp_across_every_page_is_furniture() {
    let page = |tag: &str| {
        Page::default().prose(60.0, 700.0, 5, tag).raw("BT /B 60 Tf 0.7 0.7 -0.7 0.7 150 200 Tm (DRAFT) Tj ET")
    };
    let document = File::of([page("a"), page("b"), page("c")]).read();
    assert!(!document.text.contains("DRAFT"));
    assert_eq!(of_kind(&document, BlockKind::Furniture), ["DRAFT"; 3]);
}

#[test]
fn what_is_drawn_twice_is_read_once_and_raised_figures_stay_raised() {
    let page = Page::default()
        .prose(60.0, 740.0, 4, "a")
        .say("R", 10.0, 60.0, 650.0, "Low water")
        .say("R", 10.0, 60.3, 650.0, "Low water")
        .raw("BT /R 10 Tf 1 0 0 1 60 620 Tm (A quay of 40 m) Tj /R 6 Tf 4 Ts (2) Tj ET");
    let text = page.read_alone().text;
    assert_eq!(text.matches("Low").count(), 1, "{text}");
    assert!(text.contains("A quay of 40 m²"), "{text}");
}

#[test]
fn links_labels_and_outline() {
    let link = "/Annots [<< /Type /Annot /Subtype /Link /Rect [58 736 120 752] /A << /S /URI /URI (https://quay.test/map) >> >>]";
    let page =
        |tag: &str| Page::default().say("I", 10.0, 60.0, 770.0, &format!("Watch {tag}")).prose(60.0, 740.0, 6, tag);
    let mut file = File::of([page("one").with(link), page("two"), page("three")]);
    file.catalogue = "/PageLabels << /Nums [0 << /S /r >> 2 << /S /D /P (A-) /St 7 >>] >> /Outlines 100 0 R".to_owned();
    file.objects = vec![
        (100, "<< /First 101 0 R >>".to_owned()),
        (101, "<< /Title (Watch one) /Next 102 0 R >>".to_owned()),
        (102, "<< /Title (Watch two) /First 103 0 R >>".to_owned()),
        (103, "<< /Title (Watch three) >>".to_owned()),
    ];
    let document = file.read();
    let link = &document.links[0];
    assert_eq!((document.slice(link.span), link.target.as_str()), ("one0 keeps", "https://quay.test/map"));
    let labels: Vec<_> = (1..=3).map(|page| document.page_label(page)).collect();
    assert_eq!(labels, [Some("i"), Some("ii"), Some("A-7")]);
    let heads: Vec<(u8, &str)> = document
        .blocks
        .iter()
        .filter(|block| block.kind == BlockKind::Heading)
        .map(|block| (block.level, document.block_text(block)))
        .collect();
    assert_eq!(heads, [(1, "Watch one"), (1, "Watch two"), (2, "Watch three")]);
    let budget = Budget::default();
    let bytes = file.bytes();
    let blind = PdfParser::default().use_outline(false).parse(&Input { name: "a.pdf", bytes: &bytes, budget: &budget });
    assert_eq!(of_kind(&blind.expect("readable"), BlockKind::Heading), [] as [&str; 0]);
}

#[test]
fn tags_say_what_is_a_heading_and_what_is_none() {
    let page = Page::default()
        .raw("/H2 << /MCID 0 >> BDC BT /R 10 Tf 1 0 0 1 60 760 Tm (Plain to look at) Tj ET EMC")
        .raw("/P << /MCID 1 >> BDC")
        .prose(60.0, 730.0, 5, "a")
        .raw("EMC /Artifact BMC BT /R 10 Tf 1 0 0 1 60 400 Tm (Printed on Tuesday) Tj ET EMC");
    let mut file = File::of([page]);
    file.catalogue = "/MarkInfo << /Marked true >> /StructTreeRoot 100 0 R".to_owned();
    file.objects = vec![
        (100, "<< /Type /StructTreeRoot /K [101 0 R 102 0 R] /RoleMap << /Sub /H3 >> >>".to_owned()),
        (101, "<< /S /Sub /Pg 20 0 R /K 0 >>".to_owned()),
        (102, "<< /S /P /Pg 20 0 R /K [<< /Type /MCR /MCID 1 >>] >>".to_owned()),
    ];
    let document = file.read();
    let first = &document.blocks[0];
    assert_eq!((first.kind, first.level, document.block_text(first)), (BlockKind::Heading, 3, "Plain to look at"));
    assert_eq!(of_kind(&document, BlockKind::Furniture), ["Printed on Tuesday"]);
}

#[test]
fn a_tinted_box_beside_the_text_does_not_cut_its_sentences() {
    let mut page = Page::default().raw("0.9 g 400 560 160 120 re f 0 g");
    for line in 0..14 {
        page = page.say(
            "R",
            10.0,
            60.0,
            740.0 - 12.0 * f64::from(line),
            &format!("line {line} of the order of the day goes on and on"),
        );
    }
    for line in 0..6 {
        page = page.say("R", 9.0, 408.0, 660.0 - 14.0 * f64::from(line), &format!("beside {line} of the box"));
    }
    let document = page.read_alone();
    let main = of_kind(&document, BlockKind::Paragraph).join(" ");
    assert!(main.contains("line 6 of the order of the day goes on and on line 7 of the order"), "{main}");
    assert_eq!(of_kind(&document, BlockKind::Quotation).len(), 1);
}

#[test]
fn pages_are_drawn_with_their_blocks() {
    let file = File::of([Page::default().say("B", 18.0, 60.0, 740.0, "Orders").prose(60.0, 700.0, 5, "a")]);
    let (bytes, document) = (file.bytes(), file.read());
    let bare = page_picture(&bytes, None, 1, 1.0).expect("a picture");
    let outlined = outlined_page(&bytes, None, &document, 1, 1.0).expect("a picture");
    assert_eq!((outlined.width, outlined.height, outlined.pixels.len()), (600, 800, 600 * 800 * 3));
    let colours = |picture: &logothete_core::document::Picture, colour: [u8; 3]| {
        picture.pixels.chunks(3).filter(|pixel| *pixel == colour).count()
    };
    for kind in [BlockKind::Heading, BlockKind::Paragraph] {
        let colour = logothete_parse::block_colour(kind);
        assert!(colours(&outlined, colour) > 200 && colours(&bare, colour) == 0, "{kind:?}");
    }
    let error = page_picture(&bytes, None, 2, 1.0).expect_err("no such page");
    assert_eq!(error.message(), "it has one page, and page 2 was asked for");
}
