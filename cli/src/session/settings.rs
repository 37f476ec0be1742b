//! What the bench knows of its drives: the settings of this machine and of whoever sits at it, and where its own things lie.

use jiff::Timestamp;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::guard::{BenchPlace, Circumstances};
use pyrotyp_core::plan;
use pyrotyp_core::plan::{Bench, Intent, SurveyError};

use super::folders::state_folder;
use super::settings_file;
use crate::asked::Common;
use crate::exit::{Exit, Failure, chain};

impl From<SurveyError> for Failure {
    fn from(error: SurveyError) -> Self {
        match error {
            SurveyError::Platform(error) => error.into(),
            other => Self::new(Exit::Unexpected, chain(&other), other.next_step()),
        }
    }
}

/// What this bench has of its own.
pub(crate) fn bench(common: &Common) -> Result<Bench, Failure> {
    let state = state_folder(common);
    let folders = settings_file::folders();
    let mut protected = Vec::new();
    for file in settings_file::all()? {
        protected.extend(file.says.protected(&file.path)?);
    }
    let of_state =
        state.iter().flat_map(|state| [(state.join("shelf"), BenchPlace::Shelf), (state.clone(), BenchPlace::Records)]);
    let places = of_state.chain(folders.into_iter().map(|folder| (folder, BenchPlace::Settings))).collect();
    Ok(Bench { state, protected, places })
}

/// What the guard must know of a drive that nobody has chosen yet.
pub(crate) fn survey(platform: &dyn Platform, common: &Common) -> Result<Circumstances, Failure> {
    Ok(plan::survey(platform, &bench(common)?, &Intent::NONE, Timestamp::now())?)
}
