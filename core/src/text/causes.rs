//! Errors in words.

use std::error::Error;

/// An error with all its causes in one line.
pub fn chain(error: &dyn Error) -> String {
    let mut text = plain(error);
    let mut source = error.source();
    while let Some(cause) = source {
        let cause_text = plain(cause);
        // A transparent error and its cause say the same.
        if !text.ends_with(&cause_text) {
            text.push_str(": ");
            text.push_str(&cause_text);
        }
        source = cause.source();
    }
    text
}

/// An error's own words, without the number that the system gives it.
pub fn plain(error: &dyn Error) -> String {
    let text = error.to_string();
    match text.rsplit_once(" (os error ") {
        Some((words, _)) => words.to_owned(),
        None => text,
    }
}
