//! Pictures of evaluations, as SVG and PNG.
//!
//! The colours are those of Okabe and Ito (2008), which people with any common colour blindness can tell apart; pipelines also differ in the
//! shape of their marks.

mod canvas;
mod measures;
mod recall;
mod reliability;
mod scores;
mod times;

use logothete::eval::Run;
use logothete::{Error, ErrorKind, Result};
use plotters::coord::Shift;
use plotters::prelude::{BitMapBackend, DrawingArea, DrawingBackend, IntoDrawingArea, SVGBackend};

use canvas::{Drawn, GROUND, SIZE, use_font};

use crate::html::harmless;

/// The most pipelines of a picture.
const MAX_RUNS: usize = 7;

/// A picture of one or several runs.
#[derive(Clone, Copy, Debug)]
pub struct Plot<'a> {
    /// The name, for a file: `measures`, `recall`, `scores`, `reliability`, `times`.
    pub name: &'static str,
    /// What it shows, in a sentence.
    pub says: &'static str,
    first: &'a Run,
    others: &'a [Run],
}

impl<'a> Plot<'a> {
    /// Returns the pictures that there is something to show in. Beyond seven pipelines the rest is left out.
    pub fn of(first: &'a Run, others: &'a [Run]) -> Vec<Self> {
        let plot = |name, says| Self { name, says, first, others };
        let all = [
            (!first.metrics.is_empty())
                .then(|| plot("measures", "Measures with the intervals in which they lie with a confidence of 95 %.")),
            (!first.recall_curve(1).is_empty())
                .then(|| plot("recall", "The share of right places among the first passages, by their number.")),
            first.per_question.iter().any(|score| score.confidence.is_some()).then(|| {
                plot(
                    "scores",
                    "How sure the evidence makes, with the threshold below which an answer is not sure.",
                )
            }),
            first.calibration_error().is_some().then(|| {
                plot("reliability", "How often answers are right that say how likely they are; on the line they would be right as often as they say.")
            }),
            (!first.stages.is_empty())
                .then(|| plot("times", "The time of each stage: the median, and what 95 % do not exceed.")),
        ];
        all.into_iter().flatten().collect()
    }

    fn runs(&self) -> Vec<&'a Run> {
        std::iter::once(self.first).chain(self.others).take(MAX_RUNS).collect()
    }

    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> Drawn<B> {
        use_font();
        area.fill(&GROUND)?;
        match self.name {
            "measures" => measures::draw(area, &self.runs())?,
            "recall" => recall::draw(area, &self.runs())?,
            "scores" => scores::draw(area, self.first)?,
            "reliability" => reliability::draw(area, self.first)?,
            _ => times::draw(area, &self.runs())?,
        }
        area.present()
    }

    /// Returns the picture as SVG.
    ///
    /// # Errors
    /// If it could not be drawn.
    pub fn svg(&self) -> Result<String> {
        let mut svg = String::new();
        self.draw(&SVGBackend::with_string(&mut svg, SIZE).into_drawing_area()).map_err(|error| undrawn(&error))?;
        // Names are escaped for XML, but may hold characters that reorder what stands beside them.
        Ok(svg.chars().map(harmless).collect())
    }

    /// Returns the picture as PNG.
    ///
    /// # Errors
    /// If it could not be drawn.
    pub fn png(&self) -> Result<Vec<u8>> {
        let (width, height) = SIZE;
        let mut pixels = vec![0; (width * height * 3) as usize];
        self.draw(&BitMapBackend::with_buffer(&mut pixels, SIZE).into_drawing_area())
            .map_err(|error| undrawn(&error))?;
        let mut png = Vec::new();
        let mut encoder = png::Encoder::new(&mut png, width, height);
        encoder.set_color(png::ColorType::Rgb);
        let written = encoder.write_header().and_then(|mut writer| writer.write_image_data(&pixels));
        written.map_err(|error| undrawn(&error))?;
        Ok(png)
    }
}

fn undrawn(error: &dyn std::fmt::Display) -> Error {
    Error::new(ErrorKind::System, format!("the picture could not be drawn: {error}"))
}
