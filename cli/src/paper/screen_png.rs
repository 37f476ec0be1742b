//! The screen of an emulated PC as PNG.

use png::{BitDepth, ColorType, Encoder, EncodingError};
use pyrotyp_core::rehearse::ScreenPicture;

/// The picture, packed without loss.
///
/// # Errors
/// When it can't be encoded, which no picture brings about.
pub(crate) fn screen_png(picture: &ScreenPicture) -> Result<Vec<u8>, EncodingError> {
    let side = |pixels: usize| u32::try_from(pixels).unwrap_or(u32::MAX);
    let mut out = Vec::new();
    let mut encoder = Encoder::new(&mut out, side(picture.width), side(picture.height));
    encoder.set_color(ColorType::Rgb);
    encoder.set_depth(BitDepth::Eight);
    encoder.write_header()?.write_image_data(picture.rgb())?;
    Ok(out)
}
