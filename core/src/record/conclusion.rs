//! What a drive that differs needs: one sentence, and what to do with it.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bytes::human_bytes;

/// What all that was found on a drive means. Sizes are bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(into = "Recorded", try_from = "Recorded")]
#[non_exhaustive]
pub enum Conclusion {
    /// It has less room than it claims.
    FalseCapacity {
        /// As measured.
        true_bytes: u64,
        /// As it says.
        claimed_bytes: u64,
    },
    /// The image is longer than the drive.
    TooSmall,
    /// Parts of it can't be read.
    Unreadable,
    /// Single bits change.
    FailingMemory {
        /// How many.
        bits: u64,
        /// On which of the eight lines of a byte, one bit each.
        lines: u8,
    },
    /// It says that it has written and has not.
    DropsWrites,
    /// It holds something else than was written to it just now.
    KeepsOther,
    /// Another program has it open, and may have written to it.
    OtherProgram,
    /// A computer changed notes of its own on it.
    LookedAt,
    /// It holds something else than this image.
    OtherContent,
    /// A part of it was changed.
    ChangedLater,
}

impl Conclusion {
    /// A word that records and programs may rely on.
    pub fn id(self) -> &'static str {
        match self {
            Self::FalseCapacity { .. } => "false-capacity",
            Self::TooSmall => "too-small",
            Self::Unreadable => "unreadable",
            Self::FailingMemory { .. } => "failing-memory",
            Self::DropsWrites => "drops-writes",
            Self::KeepsOther => "keeps-other",
            Self::OtherProgram => "other-program",
            Self::LookedAt => "looked-at",
            Self::OtherContent => "other-content",
            Self::ChangedLater => "changed-later",
        }
    }

    /// What to do with the drive.
    pub fn next_step(self) -> &'static str {
        match self {
            Self::FalseCapacity { .. } => "give it back or discard it: what is written behind its true end is lost",
            Self::TooSmall => "use a larger drive",
            Self::Unreadable => "discard it: its memory is worn out",
            Self::FailingMemory { .. } => "try another port once; if it reads wrong there too, discard it",
            Self::DropsWrites | Self::KeepsOther => {
                "write it once more into another port; if it differs again, discard the drive"
            }
            Self::OtherProgram => "close that program, then write the drive again",
            Self::LookedAt => {
                "it starts as before; to have it exactly as published, write it again with --only-changed"
            }
            Self::OtherContent => "`pyrotyp contents` shows what is on it",
            Self::ChangedLater => "write it again with --only-changed: only what differs is written",
        }
    }
}

impl fmt::Display for Conclusion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::FalseCapacity { true_bytes, claimed_bytes } => write!(
                f,
                "false capacity: it has room for {} ({true_bytes} bytes), not for the {} that it claims",
                human_bytes(*true_bytes),
                human_bytes(*claimed_bytes)
            ),
            Self::TooSmall => f.write_str("the image is longer than the drive"),
            Self::Unreadable => f.write_str("parts of it can't be read any more"),
            Self::FailingMemory { bits, lines } => {
                let unit = if *bits == 1 { "bit reads" } else { "bits read" };
                write!(f, "failing memory: {bits} {unit} wrong")?;
                match (lines.count_ones(), bits) {
                    (_, 1) => Ok(()),
                    (1, _) => write!(f, ", always bit {} of a byte", lines.trailing_zeros()),
                    (several, _) => write!(f, ", on {several} of the 8 lines of a byte"),
                }
            }
            Self::DropsWrites => f.write_str("it drops what is written to it without a word"),
            Self::KeepsOther => f.write_str("it does not keep what is written to it"),
            Self::OtherProgram => f.write_str("another program has it open, and may have written to it"),
            Self::LookedAt => {
                f.write_str("the drive is sound: a computer into which it was plugged changed notes of its own on it")
            }
            Self::OtherContent => f.write_str("it holds something else than this image"),
            Self::ChangedLater => f.write_str("a part of it was changed after it was written"),
        }
    }
}

/// A conclusion as it is recorded: its id and numbers, and what they mean in words for whoever reads them later.
#[derive(Serialize, Deserialize, JsonSchema)]
struct Recorded {
    id: String,
    #[serde(default)]
    text: String,
    #[serde(default)]
    next: String,
    #[serde(default)]
    true_bytes: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    claimed_bytes: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    bits: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    lines: Option<u8>,
}

impl From<Conclusion> for Recorded {
    fn from(conclusion: Conclusion) -> Self {
        let (id, text, next) = (conclusion.id().to_owned(), conclusion.to_string(), conclusion.next_step().to_owned());
        let plain = Self { id, text, next, true_bytes: None, claimed_bytes: None, bits: None, lines: None };
        match conclusion {
            Conclusion::FalseCapacity { true_bytes, claimed_bytes } => {
                Self { true_bytes: Some(true_bytes), claimed_bytes: Some(claimed_bytes), ..plain }
            }
            Conclusion::FailingMemory { bits, lines } => Self { bits: Some(bits), lines: Some(lines), ..plain },
            _ => plain,
        }
    }
}

impl TryFrom<Recorded> for Conclusion {
    type Error = String;

    fn try_from(recorded: Recorded) -> Result<Self, String> {
        let Recorded { id, true_bytes, claimed_bytes, bits, lines, .. } = recorded;
        let missing = |what: &str| format!("`{id}` is recorded without {what}");
        Ok(match id.as_str() {
            "false-capacity" => Self::FalseCapacity {
                true_bytes: true_bytes.ok_or_else(|| missing("true_bytes"))?,
                claimed_bytes: claimed_bytes.ok_or_else(|| missing("claimed_bytes"))?,
            },
            "failing-memory" => {
                let bits = bits.ok_or_else(|| missing("bits"))?;
                Self::FailingMemory { bits, lines: lines.ok_or_else(|| missing("lines"))? }
            }
            "too-small" => Self::TooSmall,
            "unreadable" => Self::Unreadable,
            "drops-writes" => Self::DropsWrites,
            "keeps-other" => Self::KeepsOther,
            "other-program" => Self::OtherProgram,
            "looked-at" => Self::LookedAt,
            "other-content" => Self::OtherContent,
            "changed-later" => Self::ChangedLater,
            _ => return Err(format!("no conclusion is called `{id}`")),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_conclusion_has_its_sentence_and_its_next_step() {
        let all = [
            Conclusion::FalseCapacity { true_bytes: 7_948_206_080, claimed_bytes: 64_000_000_000 },
            Conclusion::TooSmall,
            Conclusion::Unreadable,
            Conclusion::FailingMemory { bits: 1, lines: 2 },
            Conclusion::FailingMemory { bits: 17, lines: 16 },
            Conclusion::FailingMemory { bits: 17, lines: 255 },
            Conclusion::DropsWrites,
            Conclusion::KeepsOther,
            Conclusion::OtherProgram,
            Conclusion::LookedAt,
            Conclusion::OtherContent,
            Conclusion::ChangedLater,
        ];
        let told: Vec<_> = all.iter().map(|one| format!("{}: {one}\n  {}", one.id(), one.next_step())).collect();
        insta::assert_snapshot!(told.join("\n"));
    }
}
