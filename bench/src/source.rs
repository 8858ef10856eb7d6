//! Made-up tables and pages with known content, written for three makers of PDF.

use std::fmt::Write;

/// A program that makes PDF.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Maker {
    /// An office program, from HTML and flat OpenDocument.
    Office,
    /// A browser, from HTML.
    Browser,
    /// A TeX engine.
    Tex,
}

impl Maker {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Office, Self::Browser, Self::Tex];

    /// Its name in a report.
    pub fn name(self) -> &'static str {
        match self {
            Self::Office => "office",
            Self::Browser => "browser",
            Self::Tex => "TeX",
        }
    }
}

/// How a table is set.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Layout {
    /// Every cell in a box.
    Ruled,
    /// Level rules only: at the top, below the header, at the foot.
    Level,
    /// No rules at all.
    Plain,
    /// Every cell in a box, with cells that span rows and columns.
    Spanning,
}

impl Layout {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Ruled, Self::Level, Self::Plain, Self::Spanning];

    /// Its name in a report.
    pub fn name(self) -> &'static str {
        match self {
            Self::Ruled => "ruled",
            Self::Level => "level rules",
            Self::Plain => "unruled",
            Self::Spanning => "spanning",
        }
    }
}

const NAMES: &[&str] = &[
    "Fish Quay",
    "Gasworks Quay",
    "North Mole",
    "Customhouse Quay",
    "Dolphin Jetty",
    "New Quay",
    "Saltpan Slip",
    "Coopers Basin",
    "Farrow Point",
    "Lamp Rock",
    "Outer Basin",
    "Eel Gut",
    "Timber Wharf",
    "Signal Tower",
];
const THINGS: &[&str] = &[
    "general cargo",
    "stores and fuel",
    "fishing vessels",
    "ferries",
    "timber",
    "containers",
    "bulk cargo",
    "tankers",
    "visitors",
    "lay-by",
    "ice and bait",
    "dredgers",
    "pilot cutters",
    "survey craft",
];
const HEADS: &[&str] = &["Length", "Draught", "Lights", "Rings", "Fenders", "Depth", "Cranes", "Width", "Moorings"];
const SENTENCES: &[&str] = &[
    "The watch is kept by day and by night, and every call is written into the log.",
    "Vessels that wait for the tide lie at anchor outside the fairway until they are called.",
    "The tower answers on the first call, and no later than the third.",
    "Lines are doubled when the glass falls, and fenders are looked at every hour.",
    "A pilot who boards in fog brings his own lamp and a spare whistle.",
    "Nobody stands between a taut line and the quay, whatever the hurry.",
    "The ferry has her own berth and gives way to nothing but the lifeboat.",
    "When the lock is shut the basin keeps its level for a week or more.",
    "Sand moves along the mole in winter and comes back with the spring.",
    "The crane rests with her boom to the north, so that the wind may turn her.",
];

/// A small generator of numbers, the same on every machine (a linear congruence).
struct Dice(u64);

impl Dice {
    fn next(&mut self, below: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 33) % below.max(1) as u64) as usize
    }

    fn pick<'a>(&mut self, list: &[&'a str]) -> &'a str {
        list[self.next(list.len())]
    }

    fn sentences(&mut self, count: usize) -> String {
        (0..count).map(|_| self.pick(SENTENCES)).collect::<Vec<_>>().join(" ")
    }
}

/// A page with a table.
#[derive(Debug)]
pub struct Sheet {
    /// What makes it.
    pub maker: Maker,
    /// How the table is set.
    pub layout: Layout,
    variant: u64,
    header: Vec<String>,
    rows: Vec<Vec<String>>,
    before: String,
    after: String,
}

impl Sheet {
    /// The table of a variant: the same every time.
    pub fn new(maker: Maker, layout: Layout, variant: u64) -> Self {
        let mut dice = Dice(variant * 1_000 + maker as u64 * 100 + layout as u64 * 10 + 7);
        for _ in 0..5 {
            dice.next(2);
        }
        let columns = 3 + dice.next(3);
        let count = 5 + dice.next(8);
        let wrapped = variant >= 2;
        let mut header = vec!["Berth".to_owned(), "Use".to_owned()];
        let mut heads: Vec<&str> = HEADS.to_vec();
        while header.len() < columns {
            let at = dice.next(heads.len());
            header.push(heads.remove(at).to_owned());
        }
        let rows = (0..count)
            .map(|row| {
                let mut cells = vec![dice.pick(NAMES).to_owned(), dice.pick(THINGS).to_owned()];
                if wrapped && row % 3 == 1 {
                    let sentence = dice.pick(SENTENCES).trim_end_matches('.').to_lowercase();
                    cells[1] = sentence.chars().filter(|c| *c != ',').collect();
                }
                while cells.len() < columns {
                    let number = dice.next(900) + 10;
                    cells.push(match cells.len() % 3 {
                        0 => format!("{}.{}", number / 10, number % 10),
                        1 => number.to_string(),
                        _ => format!("{}.{:02} m", number / 100, number % 100),
                    });
                }
                cells
            })
            .collect();
        Self { maker, layout, variant, header, rows, before: dice.sentences(4), after: dice.sentences(5) }
    }

    /// The name of its source.
    pub fn file(&self) -> String {
        let ending = if self.maker == Maker::Tex { "tex" } else { "html" };
        format!("table-{}-{:?}-{}.{ending}", self.maker.name(), self.layout, self.variant)
            .to_lowercase()
            .replace(' ', "-")
    }

    /// How many rows name the columns.
    pub fn header_rows(&self) -> usize {
        if self.layout == Layout::Spanning { 2 } else { 1 }
    }

    /// Rows of a spanning table come in groups of two that share their first cell.
    fn group(&self, row: usize) -> usize {
        if self.layout == Layout::Spanning { row - row % 2 } else { row }
    }

    /// What each place of the grid says, spanned places included: row, column, text.
    pub fn cells(&self) -> Vec<(usize, usize, String)> {
        let mut cells = Vec::new();
        let mut push = |row: usize, texts: &[String]| {
            cells.extend(texts.iter().enumerate().map(|(column, text)| (row, column, text.clone())));
        };
        if self.layout == Layout::Spanning {
            let mut first = self.header.clone();
            first[2..].fill("Measures".to_owned());
            push(0, &first);
            push(1, &self.header);
        } else {
            push(0, &self.header);
        }
        for (index, row) in self.rows.iter().enumerate() {
            let mut texts = row.clone();
            texts[0].clone_from(&self.rows[self.group(index)][0]);
            push(index + self.header_rows(), &texts);
        }
        cells
    }

    /// The source that makes the page.
    pub fn source(&self) -> String {
        if self.maker == Maker::Tex { self.tex() } else { self.html() }
    }

    fn html(&self) -> String {
        let style = match self.layout {
            Layout::Ruled | Layout::Spanning => "td, th { border: 1px solid black; }",
            Layout::Level => {
                "table { border-top: 2px solid black; border-bottom: 2px solid black; } \
                 thead th { border-bottom: 1px solid black; }"
            }
            Layout::Plain => "",
        };
        let size = ["10pt", "11pt", "9pt", "12pt"][self.variant as usize % 4];
        let family = ["Liberation Serif", "Liberation Sans"][self.variant as usize / 2 % 2];
        // The office program knows these attributes better than styles.
        let attributes = match self.layout {
            Layout::Ruled | Layout::Spanning => "border=1",
            Layout::Level => "border=1 frame=hsides rules=groups",
            Layout::Plain => "border=0",
        };
        let mut body = String::new();
        if self.layout == Layout::Spanning {
            let span = self.header.len() - 2;
            let _ = write!(
                body,
                "<thead><tr><th rowspan=2>{}</th><th rowspan=2>{}</th><th colspan={span}>Measures</th></tr><tr>",
                self.header[0], self.header[1]
            );
            body.extend(self.header[2..].iter().map(|head| format!("<th>{head}</th>")));
        } else {
            body.push_str("<thead><tr>");
            body.extend(self.header.iter().map(|head| format!("<th>{head}</th>")));
        }
        body.push_str("</tr></thead><tbody>\n");
        for (index, row) in self.rows.iter().enumerate() {
            body.push_str("<tr>");
            for (column, cell) in row.iter().enumerate() {
                let group = self.group(index);
                if column == 0 && group < index {
                    continue;
                }
                let spans = column == 0 && self.layout == Layout::Spanning && index + 1 < self.rows.len();
                let _ = write!(body, "<td{}>{cell}</td>", if spans { " rowspan=2" } else { "" });
            }
            body.push_str("</tr>\n");
        }
        format!(
            "<!DOCTYPE html><html><head><meta charset=utf-8><style>body {{ font: {size} \"{family}\"; }} \
             table {{ border-collapse: collapse; width: 100%; }} td, th {{ padding: 3px 6px; text-align: left; }} {style}</style></head>\
             <body><p>{}</p>\n<table {attributes} cellspacing=0 cellpadding=4>{body}</tbody></table>\n<p>{}</p></body></html>",
            self.before, self.after
        )
    }

    fn tex(&self) -> String {
        let wide = |column: usize| if column == 1 && self.variant >= 2 { "p{5cm}" } else { "l" };
        let columns: Vec<&str> = (0..self.header.len()).map(wide).collect();
        let boxed = matches!(self.layout, Layout::Ruled | Layout::Spanning);
        let spec = if boxed { format!("|{}|", columns.join("|")) } else { columns.concat() };
        let rule = |name: &str| match self.layout {
            Layout::Plain => String::new(),
            Layout::Level => format!("\\{name}rule\n"),
            Layout::Ruled | Layout::Spanning => "\\hline\n".to_owned(),
        };
        let mut body = rule("top");
        if self.layout == Layout::Spanning {
            let span = self.header.len() - 2;
            let _ = write!(
                body,
                "\\multirow{{2}}{{*}}{{\\textbf{{{}}}}} & \\multirow{{2}}{{*}}{{\\textbf{{{}}}}} & \
                 \\multicolumn{{{span}}}{{c|}}{{\\textbf{{Measures}}}} \\\\ \\cline{{3-{}}}\n & ",
                self.header[0],
                self.header[1],
                self.header.len()
            );
            for head in &self.header[2..] {
                let _ = write!(body, " & \\textbf{{{head}}}");
            }
            body.push_str(" \\\\\n");
        } else {
            let heads: Vec<String> = self.header.iter().map(|head| format!("\\textbf{{{head}}}")).collect();
            let _ = writeln!(body, "{} \\\\", heads.join(" & "));
        }
        body.push_str(&rule("mid"));
        for (index, row) in self.rows.iter().enumerate() {
            let last_of_group = self.layout != Layout::Spanning || index % 2 == 1 || index + 1 == self.rows.len();
            let mut cells = row.clone();
            if self.layout == Layout::Spanning && index + 1 < self.rows.len() || self.group(index) < index {
                cells[0] = if self.group(index) < index {
                    String::new()
                } else {
                    format!("\\multirow{{2}}{{*}}{{{}}}", row[0])
                };
            }
            let _ = writeln!(body, "{} \\\\", cells.join(" & "));
            match self.layout {
                Layout::Ruled => body.push_str("\\hline\n"),
                Layout::Spanning if last_of_group => body.push_str("\\hline\n"),
                Layout::Spanning => drop(writeln!(body, "\\cline{{2-{}}}", self.header.len())),
                _ => {}
            }
        }
        if self.layout == Layout::Level {
            body.push_str(&rule("bottom"));
        }
        format!(
            "\\documentclass[10pt]{{article}}\n\\usepackage{{booktabs,multirow}}\n\\usepackage[margin=2.2cm]{{geometry}}\n\
             \\begin{{document}}\n{}\n\n\\medskip\n\\noindent\\begin{{tabular}}{{{spec}}}\n{body}\\end{{tabular}}\n\n\\medskip\n{}\n\\end{{document}}\n",
            self.before, self.after
        )
    }
}

/// A page set in columns.
#[derive(Debug)]
pub struct Columns {
    /// What makes it.
    pub maker: Maker,
    variant: u64,
    columns: usize,
    title: String,
    paragraphs: Vec<String>,
}

impl Columns {
    /// The page of a variant: the same every time.
    pub fn new(maker: Maker, variant: u64) -> Self {
        let mut dice = Dice(variant * 77 + maker as u64 * 13 + 3);
        for _ in 0..5 {
            dice.next(2);
        }
        let columns = 2 + (variant / 2) as usize % 2;
        let paragraphs = (0..7).map(|_| format!("{} {}", dice.pick(NAMES), dice.sentences(5).to_lowercase())).collect();
        Self { maker, variant, columns, title: format!("Orders for {}", dice.pick(NAMES)), paragraphs }
    }

    /// The name of its source.
    pub fn file(&self) -> String {
        let ending = match self.maker {
            Maker::Tex => "tex",
            Maker::Browser => "html",
            Maker::Office => "fodt",
        };
        format!("columns-{}-{}.{ending}", self.maker.name(), self.variant).to_lowercase()
    }

    /// What it says, in order.
    pub fn text(&self) -> String {
        format!("{}\n\n{}", self.title, self.paragraphs.join("\n\n"))
    }

    /// The source that makes the page.
    pub fn source(&self) -> String {
        let count = self.columns;
        match self.maker {
            Maker::Tex => format!(
                "\\documentclass[10pt]{{article}}\n\\usepackage{{multicol}}\n\\usepackage[margin=2cm]{{geometry}}\n\\pagestyle{{empty}}\n\
                 \\begin{{document}}\n\\section*{{{}}}\n\\begin{{multicols}}{{{count}}}\n{}\n\\end{{multicols}}\n\\end{{document}}\n",
                self.title,
                self.paragraphs.join("\n\n")
            ),
            Maker::Browser => {
                let body: String = self.paragraphs.iter().map(|text| format!("<p>{text}</p>\n")).collect();
                format!(
                    "<!DOCTYPE html><html><head><meta charset=utf-8><style>body {{ font: 11pt \"Liberation Serif\"; }} \
                     div {{ columns: {count}; column-gap: 24px; text-align: justify; }}</style></head>\
                     <body><h1>{}</h1><div>{body}</div></body></html>",
                    self.title
                )
            }
            Maker::Office => {
                let body: String = self.paragraphs.iter().map(|text| format!("<text:p>{text}</text:p>\n")).collect();
                format!(
                    "<?xml version=\"1.0\"?><office:document xmlns:office=\"urn:oasis:names:tc:opendocument:xmlns:office:1.0\" \
                     xmlns:text=\"urn:oasis:names:tc:opendocument:xmlns:text:1.0\" xmlns:style=\"urn:oasis:names:tc:opendocument:xmlns:style:1.0\" \
                     xmlns:fo=\"urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0\" office:version=\"1.2\" \
                     office:mimetype=\"application/vnd.oasis.opendocument.text\"><office:automatic-styles>\
                     <style:style style:name=\"C\" style:family=\"section\"><style:section-properties><style:columns fo:column-count=\"{count}\" fo:column-gap=\"0.6cm\"/>\
                     </style:section-properties></style:style></office:automatic-styles><office:body><office:text>\
                     <text:h text:outline-level=\"1\">{}</text:h><text:section text:style-name=\"C\" text:name=\"s\">{body}</text:section>\
                     </office:text></office:body></office:document>",
                    self.title
                )
            }
        }
    }
}
