//! How often answers are right that say how likely they are.

use logothete::eval::Run;
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::canvas::{COLOURS, Drawn, INK, chart, styled, title, write};

pub fn draw<B: DrawingBackend>(area: &DrawingArea<B, Shift>, run: &Run) -> Drawn<B> {
    title(area, &format!("Reliability · {}", run.name))?;
    let bins = run.reliability();
    let mut chart = chart(area, 48, 60, 0.0..1.0, 0.0..1.0)?;
    let percent = |value: &f64| format!("{:.0} %", value * 100.0);
    styled(&mut chart.configure_mesh())
        .disable_x_mesh()
        .x_labels(11)
        .y_labels(6)
        .x_label_formatter(&percent)
        .y_label_formatter(&percent)
        .x_desc("how likely the answer is right, as it says")
        .y_desc("share that is right")
        .draw()?;
    chart.draw_series(std::iter::once(PathElement::new(vec![(0.0, 0.0), (1.0, 1.0)], INK.stroke_width(1))))?;
    for (at, bin) in bins.iter().enumerate().filter(|(_, bin)| bin.count > 0) {
        let (left, right) = ((at as f64 + 0.1) / 10.0, (at as f64 + 0.9) / 10.0);
        let bar = Rectangle::new([(left, 0.0), (right, bin.right)], COLOURS[0].mix(0.75).filled());
        chart.draw_series(std::iter::once(bar))?;
        chart.draw_series(std::iter::once(Circle::new((bin.confidence, bin.right), 5, COLOURS[1].filled())))?;
        let (x, y) = chart.backend_coord(&(f64::midpoint(left, right), bin.right.max(bin.confidence)));
        write(area, &bin.count.to_string(), (x, y - 10), HPos::Center, VPos::Bottom)?;
    }
    if let Some(error) = run.calibration_error() {
        let (x, y) = chart.backend_coord(&(0.02, 0.98));
        write(area, &format!("calibration error {error:.3}"), (x, y), HPos::Left, VPos::Top)?;
    }
    Ok(())
}
