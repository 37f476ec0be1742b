//! What is handed over with a stick: a page, and a label for its sleeve. Pure functions over a record.

mod image_map;
mod label;
mod label_png;
mod label_svg;
mod report;
mod screen_png;
mod speed_plot;
mod starting;
mod station_page;

pub(crate) use label::{SleeveLabel, label, tag_in_name};
pub(crate) use label_png::png;
pub(crate) use label_svg::svg;
pub(crate) use report::page;
pub(crate) use screen_png::screen_png;
pub(crate) use station_page::station_page;
