//! An image's files on a stick, in words.

use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::compose::{LeftOut, Storage};
use pyrotyp_core::image::Inspection;
use pyrotyp_core::text::Shown;
use pyrotyp_core::text::foreign::quoted;

/// Most of what does not come along that is told by name.
const TOLD_MOST: usize = 5;

/// What is laid out, and what is not.
#[derive(Clone, Copy, Debug)]
pub(crate) struct UnpackedFiles<'a> {
    /// What is known of the drive as it will be.
    pub inspection: &'a Inspection,
    pub files: u64,
    /// How long they are together.
    pub bytes: u64,
    pub storage: &'a Storage,
    pub left_out: &'a [LeftOut],
}

impl UnpackedFiles<'_> {
    /// What it becomes.
    pub(crate) fn words(&self) -> String {
        let label =
            if self.storage.label.is_empty() { String::new() } else { format!(" \"{}\"", self.storage.label.shown()) };
        format!("{} files, {}, on a FAT volume{label}", self.files, human_bytes(self.bytes))
    }

    /// What is not as it is in the image: its label, where FAT does not hold that, and what does not come along.
    pub(crate) fn left_out_words(&self) -> Vec<String> {
        let one = |left: &LeftOut| format!("left out: {}: {}", left.path.shown(), left.why.shown());
        let label = self.inspection.label.as_deref().filter(|label| **label != self.storage.label);
        let label =
            label.map(|label| format!("not called {}: what looks for that label does not find it", quoted(label)));
        let mut words: Vec<String> = label.into_iter().chain(self.left_out.iter().take(TOLD_MOST).map(one)).collect();
        if let Some(more) = self.left_out.len().checked_sub(TOLD_MOST).filter(|more| *more > 0) {
            words.push(format!("left out: {more} more; all of them with --json"));
        }
        words
    }
}
