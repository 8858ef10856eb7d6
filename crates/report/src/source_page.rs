//! A page of a document, drawn from its text: each line where it stands, the cited ones marked.

use logothete::document::{Area, Document};

use crate::html::escaped;

/// The width and height of a page of the size A4, in points. The text does not tell the real size.
const A4: (f32, f32) = (595.0, 842.0);
/// The margin around text that reaches further, in points.
const MARGIN: f32 = 36.0;

/// A page of a document whose lines have places.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct SourcePage {
    /// The name of the document.
    pub document: String,
    /// The page, counted from 1.
    pub page: u32,
    lines: Vec<(Area, String)>,
}

impl SourcePage {
    /// Returns a page of a document; `None` if its lines have no places on it.
    pub fn new(document: &Document, page: u32) -> Option<Self> {
        let on_page = document.boxes.iter().filter(|line| line.page == page);
        let lines: Vec<(Area, String)> =
            on_page.map(|line| (line.area, document.slice(line.span).trim().to_owned())).collect();
        (!lines.is_empty()).then(|| Self { document: document.name.clone(), page, lines })
    }

    /// Returns the page as an SVG picture that stands alone, with some areas marked.
    pub fn picture(&self, marked: &[Area]) -> String {
        const STYLE: &str = "<style>.page{background:#fff;font-family:Georgia,serif}.page text{fill:#222;white-space:pre}\
             .cited{fill:#ffd977;stroke:#b07800;stroke-width:1}</style>";
        let svg = self.svg(marked).replacen("<svg ", "<svg xmlns=\"http://www.w3.org/2000/svg\" ", 1);
        match svg.find('>') {
            Some(end) => format!("{}{STYLE}{}", &svg[..=end], &svg[end + 1..]),
            None => svg,
        }
    }

    /// Returns the page as an SVG picture with some areas marked.
    pub(crate) fn svg(&self, marked: &[Area]) -> String {
        let right = self.lines.iter().map(|(area, _)| area.right).fold(0.0, f32::max);
        let bottom = self.lines.iter().map(|(area, _)| area.bottom).fold(0.0, f32::max);
        let (width, height) = (A4.0.max(right + MARGIN), A4.1.max(bottom + MARGIN));
        let mut out = format!(
            "<svg class=\"page\" viewBox=\"0 0 {width:.0} {height:.0}\" role=\"img\" aria-label=\"{}, page {}\">",
            escaped(&self.document),
            self.page
        );
        for area in marked {
            out.push_str(&format!(
                "<rect class=\"cited\" x=\"{:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{:.1}\"/>",
                area.left - 2.0,
                area.top - 1.0,
                (area.right - area.left + 4.0).max(0.0),
                (area.bottom - area.top + 2.0).max(0.0)
            ));
        }
        for (area, text) in &self.lines {
            let (length, size) = (area.right - area.left, (area.bottom - area.top) * 0.82);
            let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
            if length <= 0.0 || size <= 0.0 || text.is_empty() {
                continue;
            }
            // A row is as long as its table, and its words are not.
            let fitted = if text.contains(" | ") {
                String::new()
            } else {
                format!(" textLength=\"{length:.1}\" lengthAdjust=\"spacingAndGlyphs\"")
            };
            out.push_str(&format!(
                "<text x=\"{:.1}\" y=\"{:.1}\" font-size=\"{size:.1}\"{fitted}>{}</text>",
                area.left,
                area.bottom - size * 0.22,
                escaped(&text)
            ));
        }
        out + "</svg>"
    }
}
