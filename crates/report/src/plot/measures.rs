//! Measures with their intervals, a row each.

use logothete::eval::{Run, SHORT_MEASURES};
use plotters::coord::Shift;
use plotters::prelude::*;

use super::canvas::{Drawn, Span, chart, legend, names, rows, styled, title};

pub fn draw<B: DrawingBackend>(area: &DrawingArea<B, Shift>, runs: &[&Run]) -> Drawn<B> {
    title(area, &format!("Measures · {}", runs[0].name))?;
    let top = legend(area, &names(runs))?;
    let shown: Vec<&str> =
        SHORT_MEASURES.into_iter().filter(|name| runs.iter().any(|run| run.metrics.contains_key(*name))).collect();
    let mut chart = chart(area, top, 140, 0.0..1.0, shown.len() as f64..0.0)?;
    styled(&mut chart.configure_mesh())
        .disable_y_mesh()
        .y_labels(0)
        .x_labels(11)
        .x_label_formatter(&|x| format!("{x:.1}"))
        .x_desc("mean from 0 to 1, and its 95 % interval")
        .draw()?;
    rows(area, &chart, &shown, runs, |run, name| {
        let value = *run.metrics.get(name)?;
        let (from, to) = run.intervals.get(name).map_or((value, value), |interval| (interval.low, interval.high));
        Some(Span { value, from, to })
    })
}
