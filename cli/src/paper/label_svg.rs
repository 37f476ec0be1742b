//! A label as SVG, of its true size.

use std::fmt::Write;

use super::label::{LabelLine, SIZE, SleeveLabel};

/// The label as a drawing.
pub(crate) fn svg(label: &SleeveLabel) -> String {
    let (width, height) = SIZE;
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"50mm\" height=\"25mm\" viewBox=\"0 0 {width} {height}\">\n\
         <rect width=\"{width}\" height=\"{height}\" fill=\"#fff\"/>\n<path fill=\"#000\" shape-rendering=\"crispEdges\" d=\""
    );
    // Writing to a string never fails.
    for (columns, rows) in &label.squares {
        let _ = write!(out, "M{} {}h{}v{}h-{}z", columns.start, rows.start, columns.len(), rows.len(), columns.len());
    }
    out.push_str("\"/>\n<g fill=\"#000\" font-family=\"DejaVu Sans Mono, Liberation Mono, monospace\">\n");
    for LabelLine { x, y, height, is_bold, text } in &label.lines {
        let letters = text.chars().count();
        // The same width as the letters of the bitmap, whatever font there is.
        let (long, size) = (letters * height.letter(), height.dots() * 4 / 5);
        let (base, weight) = (y + size, if *is_bold { " font-weight=\"700\"" } else { "" });
        let _ = writeln!(
            out,
            "<text x=\"{x}\" y=\"{base}\" font-size=\"{size}\" textLength=\"{long}\" lengthAdjust=\"spacingAndGlyphs\"{weight}>{}</text>",
            escaped(text)
        );
    }
    out.push_str("</g>\n</svg>\n");
    out
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}
