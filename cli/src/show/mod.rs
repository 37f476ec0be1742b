//! How results look: tables, the card, progress and JSON. All but progress are pure functions to text.

pub mod card;
pub mod checked;
pub mod command;
pub mod content;
pub mod edge;
pub mod inspected;
pub mod json;
pub mod shelved;
pub mod style;
pub mod table;
pub mod text;
pub mod wrap;
