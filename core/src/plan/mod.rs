//! What was asked for, held against what is there.

mod survey;

pub use survey::{Bench, Intent, SurveyError, survey};
