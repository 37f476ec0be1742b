//! Processors that a PC or a board may have.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A family of processors, under the name that all of this library writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Architecture {
    /// `aarch64`
    Aarch64,
    /// `arm`, of 32 bits.
    Arm,
    /// `loongarch64`
    Loongarch64,
    /// `riscv64`
    Riscv64,
    /// `x86`, of 32 bits.
    X86,
    /// `x86-64`
    #[serde(rename = "x86-64")]
    X86Of64,
}

/// Other words for them, in small letters. A bare `64-bit` means a PC's.
const WORDS: [(&str, Architecture); 13] = [
    ("x86_64", Architecture::X86Of64),
    ("amd64", Architecture::X86Of64),
    ("x64", Architecture::X86Of64),
    ("64-bit", Architecture::X86Of64),
    ("64bit", Architecture::X86Of64),
    ("i386", Architecture::X86),
    ("i486", Architecture::X86),
    ("i586", Architecture::X86),
    ("i686", Architecture::X86),
    ("32-bit", Architecture::X86),
    ("32bit", Architecture::X86),
    ("arm64", Architecture::Aarch64),
    ("armhf", Architecture::Arm),
];

impl Architecture {
    const ALL: [Self; 6] = [Self::Aarch64, Self::Arm, Self::Loongarch64, Self::Riscv64, Self::X86, Self::X86Of64];

    /// Its name.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Aarch64 => "aarch64",
            Self::Arm => "arm",
            Self::Loongarch64 => "loongarch64",
            Self::Riscv64 => "riscv64",
            Self::X86 => "x86",
            Self::X86Of64 => "x86-64",
        }
    }

    /// The one with this name or nickname, such as `amd64`.
    pub fn known(word: &str) -> Option<Self> {
        let word = word.to_ascii_lowercase();
        let named = Self::ALL.into_iter().find(|one| one.word() == word);
        named.or_else(|| WORDS.iter().find(|(known, _)| *known == word).map(|(_, one)| *one))
    }
}

impl Architecture {
    /// The one that a line of small letters mentions anywhere; words of three letters are too short for that.
    pub(super) fn mentioned_in(line: &str) -> Option<Self> {
        let is_in = |word: &str| word.len() > 3 && line.contains(word);
        let named = Self::ALL.into_iter().find(|one| is_in(one.word()));
        named.or_else(|| WORDS.iter().find(|(word, _)| is_in(word)).map(|(_, one)| *one))
    }
}

impl fmt::Display for Architecture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}
