//! `pyrotyp inspect`: what is this file?

use std::path::PathBuf;

use pyrotyp_core::examine::OpenedImage;
use pyrotyp_core::image::Verdict;

use crate::asked::Common;
use crate::exit::{Exit, Failure};
use crate::out::{put, put_document, tell};
use crate::session::images::{on_shelf_or_file, open_image};
use crate::show::{inspected, json};

/// Columns that are taken where there is no terminal to ask.
const WIDTH: usize = 100;

/// Looks into each image; one that starts nothing makes the exit status 3, after all have been shown.
pub(crate) fn run(images: &[PathBuf], common: &Common) -> Result<Exit, Failure> {
    let mut exit = Exit::Done;
    let mut seen = Vec::new();
    for asked in images {
        let opened = on_shelf_or_file(asked, common).and_then(|path| open_image(&path, common));
        match opened {
            Ok(OpenedImage { inspection, .. }) => {
                if inspection.verdict == Verdict::No {
                    exit = Exit::Image;
                }
                seen.push((asked.as_path(), inspection));
            }
            Err(failure) => {
                tell(&failure);
                exit = failure.exit;
            }
        }
    }
    if common.json {
        put_document(&json::inspect(&seen))?;
    } else if (2..=inspected::BESIDE_MOST).contains(&seen.len()) && !common.verbose {
        let width = terminal_size::terminal_size().map_or(WIDTH, |(width, _)| usize::from(width.0)).clamp(60, 160);
        put(&inspected::side_by_side(&seen, width, common))?;
    } else {
        for (place, (path, inspection)) in seen.iter().enumerate() {
            put(&format!("{}{}", if place > 0 { "\n" } else { "" }, inspected::inspection(path, inspection, common)))?;
        }
    }
    Ok(exit)
}
