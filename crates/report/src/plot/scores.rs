//! How sure the evidence for each question makes, with the threshold of sure answers.

use logothete::eval::Run;
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::canvas::{COLOURS, Drawn, INK, chart, legend, styled, title, write};

const BINS: usize = 20;

pub fn draw<B: DrawingBackend>(area: &DrawingArea<B, Shift>, run: &Run) -> Drawn<B> {
    title(area, &format!("Evidence for each question · {}", run.name))?;
    let groups = [false, true].map(|refuse| shares(run, refuse));
    let counts = [false, true].map(|refuse| run.per_question.iter().filter(|score| score.refuse == refuse).count());
    let top = legend(
        area,
        &[format!("answerable, {} questions", counts[0]), format!("unanswerable, {} questions", counts[1])],
    )?;
    let highest = groups.iter().flatten().copied().fold(0.05, f64::max) * 1.15;
    let mut chart = chart(area, top, 60, 0.0..1.0, 0.0..highest)?;
    styled(&mut chart.configure_mesh())
        .disable_x_mesh()
        .x_labels(11)
        .y_labels(6)
        .x_label_formatter(&|x| format!("{x:.1}"))
        .y_label_formatter(&|y| format!("{:.0} %", y * 100.0))
        .x_desc("probability that the evidence answers")
        .y_desc("questions of the kind")
        .draw()?;
    let width = 1.0 / BINS as f64;
    for (at, group) in groups.iter().enumerate() {
        let bar = |(bin, share): (usize, &f64)| {
            let left = (bin as f64 + 0.08 + 0.42 * at as f64) * width;
            Rectangle::new([(left, 0.0), (left + 0.42 * width, *share)], COLOURS[at].filled())
        };
        chart.draw_series(group.iter().enumerate().filter(|(_, share)| **share > 0.0).map(bar))?;
    }
    if let Some(threshold) = run.per_question.iter().find_map(|score| score.min_confidence) {
        let (x, bottom) = chart.backend_coord(&(threshold, 0.0));
        let (_, top) = chart.backend_coord(&(threshold, highest));
        for y in (top..bottom).step_by(9) {
            area.draw(&PathElement::new(vec![(x, y), (x, (y + 5).min(bottom))], INK.stroke_width(2)))?;
        }
        write(area, &format!("not sure below {threshold:.2}"), (x - 8, top + 2), HPos::Right, VPos::Top)?;
    }
    Ok(())
}

/// Returns the share of the answerable or unanswerable questions in each bin of confidence.
fn shares(run: &Run, refuse: bool) -> Vec<f64> {
    let scores = run.per_question.iter().filter(|score| score.refuse == refuse).filter_map(|score| score.confidence);
    let mut bins = vec![0.0; BINS];
    let mut all = 0.0_f64;
    for confidence in scores {
        bins[((confidence * BINS as f64) as usize).min(BINS - 1)] += 1.0;
        all += 1.0;
    }
    bins.into_iter().map(|count| count / all.max(1.0)).collect()
}
