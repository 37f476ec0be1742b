//! Volume labels, as file systems allow them.

use crate::compose::VolumeKind;

/// Why a label can't be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum LabelFault {
    /// It is too long.
    #[error("a label of {} takes {most} {} at most, and this one takes {units}", kind.word(), kind.label_unit())]
    Long {
        /// Of which kind of volume.
        kind: VolumeKind,
        /// So many.
        most: usize,
        /// How long this one is, in the unit that the kind counts.
        units: usize,
    },
    /// A letter in it is not allowed.
    #[error("a label of {} can't hold {letter:?}", kind.word())]
    Letter {
        /// Of which kind of volume.
        kind: VolumeKind,
        /// Which.
        letter: char,
    },
}

/// Letters of a label of FAT and exFAT. FAT: Microsoft FAT Specification (2004), section 6.1; exFAT: its specification, section 7.3.
const LETTERS_MOST: usize = 11;
/// Bytes of a label of ext4: the superblock's `s_volume_name` (Linux, Documentation/filesystems/ext4/super.rst).
const EXT4_BYTES_MOST: usize = 16;
/// Beside letters and digits, what a label of FAT may hold.
const FAT_SIGNS: &str = " !#$%&'()-@^_`{}~";
/// What no label of exFAT may hold, section 7.7.3.
const EXFAT_BARRED: &str = "\"*/:<>?\\|";

impl VolumeKind {
    /// The label as this kind of volume keeps it.
    ///
    /// # Errors
    /// When it can't.
    pub fn label(self, asked: &str) -> Result<String, LabelFault> {
        let label = match self {
            Self::Fat32 => asked.trim().to_ascii_uppercase(),
            Self::Exfat | Self::Ext4 => asked.trim().to_owned(),
        };
        let (units, most) = match self {
            Self::Ext4 => (label.len(), EXT4_BYTES_MOST),
            Self::Fat32 | Self::Exfat => (label.encode_utf16().count(), LETTERS_MOST),
        };
        let letter = label.chars().find(|c| !self.takes(*c));
        match letter {
            Some(letter) => Err(LabelFault::Letter { kind: self, letter }),
            None if units > most => Err(LabelFault::Long { kind: self, most, units }),
            None => Ok(label),
        }
    }

    /// What the length of a label is counted in.
    fn label_unit(self) -> &'static str {
        match self {
            Self::Fat32 => "letters",
            Self::Exfat => "UTF-16 units (a letter takes one, an emoji two)",
            Self::Ext4 => "bytes (an English letter takes one, others two to four)",
        }
    }

    fn takes(self, c: char) -> bool {
        match self {
            Self::Fat32 => c.is_ascii_alphanumeric() || FAT_SIGNS.contains(c),
            Self::Exfat => !c.is_control() && !EXFAT_BARRED.contains(c),
            Self::Ext4 => !c.is_control(),
        }
    }

    /// The nearest label to a name that was not given as one, such as a drive's model; nothing may be left of it.
    pub fn label_like(self, name: &str) -> String {
        let taken: String = name.chars().filter(|c| self.takes(*c)).take(LETTERS_MOST).collect();
        self.label(&taken).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_are_what_their_volume_allows() {
        use VolumeKind::{Exfat, Ext4, Fat32};
        assert_eq!(Fat32.label(" Holiday 24").unwrap(), "HOLIDAY 24");
        assert_eq!(Exfat.label("Ferien Übig").unwrap(), "Ferien Übig");
        assert_eq!(Fat32.label("Ü"), Err(LabelFault::Letter { kind: Fat32, letter: 'Ü' }));
        assert_eq!(Ext4.label("Werkstatt/Ü 24").unwrap(), "Werkstatt/Ü 24");
        assert_eq!(Ext4.label("seventeen letters"), Err(LabelFault::Long { kind: Ext4, most: 16, units: 17 }));
        assert_eq!(Exfat.label("a/b"), Err(LabelFault::Letter { kind: Exfat, letter: '/' }));
        assert_eq!(Fat32.label("twelve chars"), Err(LabelFault::Long { kind: Fat32, most: 11, units: 12 }));
        // Letters beyond the basic plane count twice.
        assert!(Exfat.label("\u{1F980}\u{1F980}\u{1F980}\u{1F980}\u{1F980}").is_ok());
        assert!(Exfat.label("\u{1F980}\u{1F980}\u{1F980}\u{1F980}\u{1F980}\u{1F980}").is_err());
        assert_eq!([Fat32.label_like("Kestrin: Pocket 3.1"), Exfat.label_like("日本/語")], ["KESTRIN POC", "日本語"]);
        assert_eq!(Exfat.label_like("\u{1F980}\u{1F980}\u{1F980}\u{1F980}\u{1F980}\u{1F980}"), "");
    }
}
