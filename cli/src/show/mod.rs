//! How results look: tables, the card, progress and JSON. All but progress are pure functions to text.

pub(crate) mod card;
pub(crate) mod checked;
pub(crate) mod command;
pub(crate) mod content;
pub(crate) mod edge;
pub(crate) mod gauged;
pub(crate) mod inspected;
pub(crate) mod json;
pub(crate) mod ledger;
pub(crate) mod letters;
pub(crate) mod rehearsed;
pub(crate) mod rows;
pub(crate) mod saved;
pub(crate) mod settings;
pub(crate) mod shelved;
pub(crate) mod station;
pub(crate) mod style;
pub(crate) mod table;
pub(crate) mod text;
pub(crate) mod unpacked;
pub(crate) mod wrap;
