//! How fast a drive was along its length, as a plot in SVG whose colours the page chooses.

use plotters::prelude::{
    ChartBuilder, Circle, Color, DrawingAreaErrorKind, DrawingBackend, IntoDrawingArea, IntoFont, LineSeries, RGBColor,
    SVGBackend, ShapeStyle, TRANSPARENT, Text,
};
use pyrotyp_core::record::{Gauged, SpeedAt, SpeedMark, Speeds};

/// Width and height, in the plot's own units.
const SIZE: (u32, u32) = (560, 210);
/// The colours that the page's style sheet finds and replaces, so that they fit light and dark.
const WRITING: RGBColor = RGBColor(0x1F, 0x5F, 0xA8);
const READING: RGBColor = RGBColor(0xB3, 0x5C, 0x00);
const INK: RGBColor = RGBColor(0x22, 0x22, 0x22);
const GRID: RGBColor = RGBColor(0xDD, 0xDD, 0xDD);
/// Fewer stretches than this make no plot.
const LEAST: usize = 3;
/// No stretch is shorter, in seconds.
const SHORTEST: f64 = 0.25;
const MEGABYTE: f64 = 1e6;

/// Where on the drive, in MB, and how fast there, in MB/s.
type Stretch = (f64, f64);

fn stretches(marks: &[SpeedMark]) -> Vec<Stretch> {
    let mut all = Vec::new();
    let Some(mut from) = marks.first() else { return all };
    for to in marks {
        let (bytes, seconds) = (to.done.saturating_sub(from.done), to.seconds - from.seconds);
        // What came in one moment says nothing about the drive.
        if seconds < SHORTEST || !seconds.is_finite() || bytes == 0 {
            continue;
        }
        let middle = from.done as f64 + bytes as f64 / 2.0;
        all.push((middle / MEGABYTE, bytes as f64 / MEGABYTE / seconds));
        from = to;
    }
    all
}

/// A number on an axis, as short as it can be.
fn figure(number: &f64) -> String {
    if number.fract().abs() < f64::EPSILON { format!("{number:.0}") } else { format!("{number:.1}") }
}

/// The plot of what a look at a drive has found; `None` where it found too few speeds.
pub(crate) fn gauged_plot(gauged: &Gauged) -> Option<String> {
    let stretches = |speeds: &[SpeedAt]| {
        speeds.iter().map(|one| (one.offset as f64 / MEGABYTE, one.bytes_per_second as f64 / MEGABYTE)).collect()
    };
    plot([("written", WRITING, stretches(&gauged.write)), ("read", READING, stretches(&gauged.read))])
}

/// The plot of both long stages; `None` where they were too short to tell.
pub(crate) fn speed_plot(speeds: &Speeds) -> Option<String> {
    plot([("written", WRITING, stretches(&speeds.body)), ("read back", READING, stretches(&speeds.read_back))])
}

fn plot(lines: [Line; 2]) -> Option<String> {
    let lines: Vec<_> = lines.into_iter().filter(|(_, _, line)| line.len() >= LEAST).collect();
    let all = || lines.iter().flat_map(|(_, _, line)| line);
    let furthest = all().map(|(at, _)| *at).reduce(f64::max)?;
    let fastest = all().map(|(_, rate)| *rate).reduce(f64::max)?;
    let mut out = String::new();
    drawn(&lines, (furthest, fastest), SVGBackend::with_string(&mut out, SIZE)).ok()?;
    Some(out)
}

type Line = (&'static str, RGBColor, Vec<Stretch>);

fn drawn<D: DrawingBackend>(lines: &[Line], most: Stretch, onto: D) -> Result<(), DrawingAreaErrorKind<D::ErrorType>> {
    let (furthest, fastest) = most;
    let area = onto.into_drawing_area();
    let mut chart = ChartBuilder::on(&area)
        .margin(6)
        .margin_right(18)
        .x_label_area_size(44)
        .y_label_area_size(58)
        .build_cartesian_2d(0.0..furthest * 1.02, 0.0..fastest * 1.15)?;
    let words = |size: u32| ("sans-serif", size).into_font().color(&INK);
    chart
        .configure_mesh()
        .disable_x_mesh()
        .light_line_style(TRANSPARENT)
        .bold_line_style(GRID)
        .axis_style(INK)
        .x_desc("MB from the beginning")
        .y_desc("MB/s")
        .x_labels(6)
        .y_labels(5)
        .x_label_formatter(&figure)
        .y_label_formatter(&figure)
        .label_style(words(17))
        .axis_desc_style(words(17))
        .draw()?;
    for (name, colour, line) in lines {
        let style = ShapeStyle { color: colour.to_rgba(), filled: false, stroke_width: 2 };
        chart.draw_series(LineSeries::new(line.iter().copied(), style))?;
        // Told apart by shape too: dots are on the line of reading alone.
        if *colour == READING {
            chart.draw_series(line.iter().map(|point| Circle::new(*point, 3, READING.filled())))?;
        }
        let highest = line.iter().copied().reduce(|a, b| if b.1 > a.1 { b } else { a });
        if let Some((at, rate)) = highest {
            let at = at.min(furthest * 0.85);
            let font = ("sans-serif", 17).into_font().color(colour);
            chart.draw_series(std::iter::once(Text::new((*name).to_owned(), (at, rate + fastest * 0.1), font)))?;
        }
    }
    area.present()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn marks(all: &[(u64, f64)]) -> Vec<SpeedMark> {
        all.iter().map(|(done, seconds)| SpeedMark { done: done * 1_000_000, seconds: *seconds }).collect()
    }

    #[test]
    fn a_plot_is_of_stretches_that_mean_something() {
        // 8 MB in two seconds; what came within a moment is part of the next stretch; a clock that stood still counts for nothing.
        let body =
            marks(&[(0, 0.0), (8, 2.0), (9, 2.01), (9, 2.3), (12, 3.01), (12, f64::NAN), (14, 3.01), (20, 5.01)]);
        let told = stretches(&body).iter().map(|(at, rate)| format!("{at:.1} {rate:.1}")).collect::<Vec<_>>();
        assert_eq!(told, ["4.0 4.0", "8.5 3.3", "10.5 4.2", "16.0 4.0"]);
        let speeds = Speeds { body: body.clone(), read_back: marks(&[(0, 0.0), (20, 1.0)]) };
        let plot = speed_plot(&speeds).unwrap();
        assert!(plot.contains("#1F5FA8") && !plot.contains("#B35C00") && plot.contains("written"), "{plot}");
        assert!(!plot.contains("read back") && plot.contains("MB from the beginning"));
        assert_eq!(speed_plot(&Speeds { body: body[..3].to_vec(), read_back: Vec::new() }), None);
        assert_eq!([figure(&4.0), figure(&0.25), figure(&1200.0)], ["4", "0.2", "1200"]);
    }
}
