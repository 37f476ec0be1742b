//! Where a drive differs from its image, and what its bytes say about that.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What the bytes themselves say about a difference.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// The drive gives zeros: it lost what was written, or never kept it.
    Zeros,
    /// The drive gives 0xFF throughout: erased flash.
    Ones,
    /// A few bits are different: failing memory.
    SingleBits,
    /// What was there before the job: the write was dropped.
    OldData,
    /// A file system's own notes, which a computer changed.
    Housekeeping,
    /// What belongs to another place of the image: the drive has less room than it claims.
    OtherPlace,
    /// The drive can't read it.
    Unreadable,
    /// The drive ends before the image.
    BeyondEnd,
    /// Other data: it was changed after writing, or never written.
    OtherData,
}

impl Cause {
    /// The cause in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Zeros => "reads back as zeros",
            Self::Ones => "reads back as 0xFF",
            Self::SingleBits => "single bits are wrong",
            Self::OldData => "holds what was there before: the write was dropped",
            Self::Housekeeping => "a computer changed notes of its own there",
            Self::OtherPlace => "holds what belongs elsewhere in the image",
            Self::Unreadable => "can't be read",
            Self::BeyondEnd => "lies behind the drive's end",
            Self::OtherData => "holds other data",
        }
    }
}

/// A range in which the drive differs from the image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Difference {
    /// First byte.
    pub offset: u64,
    /// Length in bytes, from the first byte that differs to the last.
    pub bytes: u64,
    /// Why, as the bytes tell it.
    pub cause: Cause,
    /// The image's file that lies there.
    pub file: Option<String>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_cause_has_its_words() {
        let all = [
            Cause::Zeros,
            Cause::Ones,
            Cause::SingleBits,
            Cause::OldData,
            Cause::Housekeeping,
            Cause::OtherPlace,
            Cause::Unreadable,
            Cause::BeyondEnd,
            Cause::OtherData,
        ];
        insta::assert_snapshot!(all.map(Cause::words).join("\n"), @"
        reads back as zeros
        reads back as 0xFF
        single bits are wrong
        holds what was there before: the write was dropped
        a computer changed notes of its own there
        holds what belongs elsewhere in the image
        can't be read
        lies behind the drive's end
        holds other data
        ");
    }
}
