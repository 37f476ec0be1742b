//! What holds for a command from its start to its end.

use pyrotyp_core::stop::Cancel;

use crate::asked::Common;

/// One call of the program.
#[derive(Clone, Copy)]
pub(crate) struct Session<'a> {
    /// The options of every command.
    pub common: &'a Common,
    /// Thrown when somebody asks to stop.
    pub cancel: &'a Cancel,
}
