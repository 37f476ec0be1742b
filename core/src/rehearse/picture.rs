//! A picture of the emulated PC's screen.

use std::collections::HashMap;

/// Most pixels to a side.
const SIDE_MOST: usize = 8192;
/// Share of a screen that may change while it still stands still: a cursor, a clock, a count of seconds.
const STILL_SHARE: f64 = 0.002;
/// Share of a screen below which a colour is not seen.
const SEEN_SHARE: f64 = 0.0005;
/// The side of the squares of which a console's screen is looked at for bars, in shares of the screen's width.
const BAR_SHARE: f64 = 0.4;
/// Colours of which a console makes do, background included.
const CONSOLE_COLOURS: usize = 3;

/// One pixel: red, green, blue.
type Pixel = [u8; 3];

/// A picture: rows from above, pixels from the left.
#[derive(Clone, PartialEq, Eq)]
pub struct ScreenPicture {
    /// Pixels in a row.
    pub width: usize,
    /// Rows.
    pub height: usize,
    pixels: Vec<Pixel>,
}

impl ScreenPicture {
    /// Reads a portable pixmap with a byte a colour: Netpbm, ppm(5), `P6`.
    pub(super) fn of_ppm(bytes: &[u8]) -> Option<Self> {
        let mut rest = bytes.strip_prefix(b"P6")?;
        let mut number = || -> Option<usize> {
            let start = rest.iter().position(|byte| !byte.is_ascii_whitespace())?;
            rest = rest.get(start..)?;
            let end = rest.iter().position(u8::is_ascii_whitespace)?;
            let (digits, behind) = rest.split_at_checked(end)?;
            rest = behind;
            std::str::from_utf8(digits).ok()?.parse().ok()
        };
        let (width, height, most) = (number()?, number()?, number()?);
        let is_sound = (1..=SIDE_MOST).contains(&width) && (1..=SIDE_MOST).contains(&height) && most == 255;
        let wanted = width.checked_mul(height).filter(|_| is_sound)?;
        let (pixels, _) = rest.get(1..)?.as_chunks::<3>();
        (pixels.len() == wanted).then(|| Self { width, height, pixels: pixels.to_vec() })
    }

    /// All of its bytes, three a pixel.
    pub fn rgb(&self) -> &[u8] {
        self.pixels.as_flattened()
    }

    fn share(&self, count: usize) -> f64 {
        count as f64 / self.pixels.len().max(1) as f64
    }

    /// Whether it is the same screen, but for a cursor or a clock.
    pub(super) fn is_like(&self, other: &Self) -> bool {
        let is_other = |(a, b): &(&Pixel, &Pixel)| a != b;
        let same_size = (self.width, self.height) == (other.width, other.height);
        same_size && self.share(self.pixels.iter().zip(&other.pixels).filter(is_other).count()) <= STILL_SHARE
    }

    /// Colours that are seen, the commonest first.
    fn colours(&self) -> Vec<Pixel> {
        let mut counts: HashMap<Pixel, usize> = HashMap::new();
        for pixel in &self.pixels {
            let count = counts.entry(*pixel).or_default();
            *count = count.saturating_add(1);
        }
        let mut seen: Vec<(Pixel, usize)> =
            counts.into_iter().filter(|(_, count)| self.share(*count) >= SEEN_SHARE).collect();
        seen.sort_unstable_by_key(|(pixel, count)| (std::cmp::Reverse(*count), *pixel));
        seen.into_iter().map(|(pixel, _)| pixel).collect()
    }

    /// What it shows, as far as that can be told without reading.
    pub(super) fn kind(&self) -> PictureKind {
        match self.colours().as_slice() {
            [] | [_] => PictureKind::Blank,
            [background, others @ ..] if others.len() < CONSOLE_COLOURS && !self.has_bar(*background) => {
                PictureKind::Letters
            }
            _ => PictureKind::Drawn,
        }
    }

    /// Whether another colour than the background's goes across a good part of the screen without a break, as the frame of a menu does, or
    /// the bar on what is chosen.
    fn has_bar(&self, background: Pixel) -> bool {
        let wanted = (self.width as f64 * BAR_SHARE) as usize;
        let runs_far = |row: &[Pixel]| {
            let runs = row.chunk_by(|a, b| a == b);
            runs.into_iter().any(|run| run.len() >= wanted.max(1) && run.first() != Some(&background))
        };
        self.pixels.chunks(self.width.max(1)).any(runs_far)
    }
}

/// What a screen shows, as far as that can be told without reading.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum PictureKind {
    /// Nothing.
    Blank,
    /// Few colours and nothing drawn: letters of a console, or of an error.
    Letters,
    /// A menu, or a picture.
    Drawn,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn painted(paint: impl Fn(usize, usize) -> Pixel) -> ScreenPicture {
        let (width, height) = (80, 50);
        let pixels = (0..height).flat_map(|y| (0..width).map(move |x| (x, y))).map(|(x, y)| paint(x, y)).collect();
        ScreenPicture { width, height, pixels }
    }

    #[test]
    fn letters_are_told_from_menus_and_from_nothing() {
        let (black, grey, blue) = ([0; 3], [170; 3], [0, 0, 170]);
        let letters = |x: usize, y: usize| if y < 30 && (x * 7 + y * 3).is_multiple_of(5) { grey } else { black };
        assert_eq!(painted(|_, _| black).kind(), PictureKind::Blank);
        assert_eq!(painted(letters).kind(), PictureKind::Letters);
        // A frame, a bar, and many colours.
        let framed = painted(|x, y| if y == 3 && x > 10 && x < 70 { grey } else { letters(x, y) });
        assert_eq!(framed.kind(), PictureKind::Drawn);
        let short = painted(|x, y| if y == 3 && x > 10 && x < 40 { grey } else { letters(x, y) });
        assert_eq!(short.kind(), PictureKind::Letters);
        assert_eq!(painted(|x, y| [(x / 9) as u8, y as u8, 9]).kind(), PictureKind::Drawn);
        // A cursor does not count, half a line of text does.
        let at = |cells: usize| painted(move |x, y| if y == 40 && x < cells { blue } else { letters(x, y) });
        assert!(at(8).is_like(&at(0)) && !at(20).is_like(&at(0)));
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(width in 0usize..9, height in 0usize..9, bytes in proptest::collection::vec(any::<u8>(), 0..200), text: Vec<u8>) {
            let _ = ScreenPicture::of_ppm(&text);
            let mut ppm = format!("P6 {width}\n{height} 255\n").into_bytes();
            ppm.extend_from_slice(&bytes);
            let picture = ScreenPicture::of_ppm(&ppm);
            prop_assert_eq!(picture.is_some(), width * height > 0 && width * height == bytes.len() / 3);
            if let Some(picture) = picture {
                prop_assert!(picture.is_like(&picture));
                let _ = picture.kind();
            }
        }
    }
}
