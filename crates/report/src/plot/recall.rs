//! Recall by the number of passages.

use logothete::eval::Run;
use plotters::coord::Shift;
use plotters::prelude::*;

use super::canvas::{COLOURS, Drawn, chart, legend, mark, names, styled, title};

/// The most passages of the picture.
const MAX_PASSAGES: usize = 10;

pub fn draw<B: DrawingBackend>(area: &DrawingArea<B, Shift>, runs: &[&Run]) -> Drawn<B> {
    title(area, &format!("Right places among the first passages · {}", runs[0].name))?;
    let top = legend(area, &names(runs))?;
    let curves: Vec<Vec<f64>> = runs.iter().map(|run| run.recall_curve(MAX_PASSAGES)).collect();
    let least = curves.iter().flatten().copied().fold(1.0, f64::min);
    // A curve near the top is seen better without the empty part below it; the axis says where it begins.
    let bottom = (least * 5.0).floor() / 5.0;
    let mut chart = chart(area, top, 60, 0.7..MAX_PASSAGES as f64 + 0.3, bottom..1.0)?;
    styled(&mut chart.configure_mesh())
        .disable_x_mesh()
        .x_labels(MAX_PASSAGES)
        .y_labels(6)
        .x_label_formatter(&|x| format!("{x:.0}"))
        .y_label_formatter(&|y| format!("{y:.2}"))
        .x_desc("number of passages, k")
        .y_desc("recall at k, from 0 to 1")
        .draw()?;
    for (at, curve) in curves.iter().enumerate() {
        let points: Vec<(f64, f64)> = curve.iter().enumerate().map(|(k, recall)| (k as f64 + 1.0, *recall)).collect();
        chart.draw_series(LineSeries::new(points.clone(), COLOURS[at % COLOURS.len()].stroke_width(2)))?;
        for point in points {
            mark(area, at, chart.backend_coord(&point))?;
        }
    }
    Ok(())
}
