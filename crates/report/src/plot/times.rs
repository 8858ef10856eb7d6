//! The time of each stage.

use logothete::eval::{Run, STAGES};
use plotters::coord::Shift;
use plotters::prelude::*;

use super::canvas::{Drawn, Span, chart, legend, names, rows, styled, title};

pub fn draw<B: DrawingBackend>(area: &DrawingArea<B, Shift>, runs: &[&Run]) -> Drawn<B> {
    title(area, &format!("Time of each stage · {}", runs[0].name))?;
    let top = legend(area, &names(runs))?;
    let stages: Vec<&str> =
        STAGES.into_iter().filter(|stage| runs.iter().any(|run| run.stages.contains_key(*stage))).collect();
    let longest = runs.iter().flat_map(|run| run.stages.values()).map(|time| time.p95_ms).fold(0.1, f64::max) * 1.08;
    let mut chart = chart(area, top, 90, 0.0..longest, stages.len() as f64..0.0)?;
    styled(&mut chart.configure_mesh())
        .disable_y_mesh()
        .y_labels(0)
        .x_labels(8)
        .x_desc("milliseconds: the median, to what 95 % do not exceed")
        .draw()?;
    rows(area, &chart, &stages, runs, |run, stage| {
        let time = run.stages.get(stage)?;
        Some(Span { value: time.median_ms, from: time.median_ms, to: time.p95_ms })
    })
}
