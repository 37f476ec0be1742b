//! What was asked for, held against what is there: what a job would do, before anything is changed.

mod comparison;
mod expected;
mod keeping;
mod making;
mod resume;
mod survey;

pub use comparison::{comparison, rehearsal, saving, surface};
pub use expected::ExpectedTime;
pub use keeping::{blocks_of, end_record};
pub use making::{BehindImage, Came, How, Plan, PlannedDrive, PlannedImage, ProvenImage, Wish};
pub use resume::Resume;
pub(crate) use resume::notes_of;
pub use survey::{Bench, Intent, SurveyError, survey};
