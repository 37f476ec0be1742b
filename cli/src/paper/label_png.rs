//! A label as PNG at 300 dots an inch, with letters of its own: a machine without fonts makes it too.

use noto_sans_mono_bitmap::{FontWeight, RasterHeight, RasterizedChar, get_raster};
use png::{BitDepth, ColorType, Encoder, EncodingError, PixelDimensions, Unit};

use super::label::{Height, LabelLine, SIZE, SleeveLabel};

/// 300 dots an inch, in dots a metre.
const DOTS_PER_METRE: u32 = 11_811;
const WHITE: u8 = 0xFF;

/// The label as a picture in grey.
///
/// # Errors
/// When it can't be encoded, which no label brings about.
pub(crate) fn png(label: &SleeveLabel) -> Result<Vec<u8>, EncodingError> {
    let (width, height) = SIZE;
    let mut picture = Picture { dots: vec![WHITE; width * height] };
    for (columns, rows) in &label.squares {
        for y in rows.clone() {
            columns.clone().for_each(|x| picture.dot(x, y, WHITE));
        }
    }
    label.lines.iter().for_each(|line| picture.line(line));
    let mut out = Vec::new();
    let mut encoder = Encoder::new(&mut out, width as u32, height as u32);
    encoder.set_color(ColorType::Grayscale);
    encoder.set_depth(BitDepth::Eight);
    encoder.set_pixel_dims(Some(PixelDimensions { xppu: DOTS_PER_METRE, yppu: DOTS_PER_METRE, unit: Unit::Meter }));
    encoder.write_header()?.write_image_data(&picture.dots)?;
    Ok(out)
}

struct Picture {
    dots: Vec<u8>,
}

impl Picture {
    /// A dot as dark as `ink`; none outside the label.
    fn dot(&mut self, x: usize, y: usize, ink: u8) {
        if x < SIZE.0
            && let Some(dot) = y.checked_mul(SIZE.0).and_then(|row| self.dots.get_mut(row.checked_add(x)?))
        {
            *dot = (*dot).min(WHITE - ink);
        }
    }

    fn line(&mut self, line: &LabelLine) {
        // The tag's letters are those of the title, each dot of theirs four.
        let (raster, scale) = match line.height {
            Height::Tag => (RasterHeight::Size32, 2),
            Height::Title => (RasterHeight::Size32, 1),
            Height::Small => (RasterHeight::Size24, 1),
        };
        let weight = if line.is_bold { FontWeight::Bold } else { FontWeight::Regular };
        for (at, letter) in line.text.chars().enumerate() {
            let left = line.x.saturating_add(at.saturating_mul(line.height.letter()));
            // Letters beyond the Latin script are in the SVG alone.
            let drawn = get_raster(letter, weight, raster).or_else(|| get_raster('?', weight, raster));
            drawn.iter().for_each(|drawn| self.letter(drawn, (left, line.y), scale));
        }
    }

    fn letter(&mut self, drawn: &RasterizedChar, corner: (usize, usize), scale: usize) {
        for (y, row) in drawn.rows().enumerate() {
            for (x, ink) in row.iter().enumerate() {
                for sub in 0..scale * scale {
                    self.dot(corner.0 + x * scale + sub % scale, corner.1 + y * scale + sub / scale, *ink);
                }
            }
        }
    }
}
