//! The tray's descriptor, `tray.toml`: which drives there are, and what is wrong with them.

use serde::Deserialize;

use crate::drive::{Bus, Port};

/// Name of the descriptor in the tray's folder.
pub const FILE_NAME: &str = "tray.toml";

/// All drives of a tray.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Descriptor {
    /// The drives, in the order in which they are listed.
    #[serde(default, rename = "drive")]
    pub drives: Vec<DriveSpec>,
}

/// One simulated drive.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DriveSpec {
    /// Name of the drive in the tray, and of its backing file: letters, digits and hyphens.
    pub name: String,
    /// Maker.
    pub vendor: Option<String>,
    /// Model.
    pub model: Option<String>,
    /// Serial number.
    pub serial: Option<String>,
    /// Size in bytes; zero for a reader without a card.
    pub bytes: u64,
    /// Smallest unit, in bytes: 512 or 4096.
    #[serde(default = "usual_sector")]
    pub sector_bytes: u32,
    /// `usb`, `ata`, `nvme`, `scsi`, `mmc`, `virtio` or `virtual`.
    pub bus: Bus,
    /// Speed of the link, in megabits a second.
    pub link_mbps: Option<u32>,
    /// Where it is plugged in, such as `1-2.3`.
    pub port: Option<Port>,
    /// Whether it can do more than the port that it is plugged into.
    #[serde(default)]
    pub could_be_faster: bool,
    /// Whether it says that its medium can be removed.
    #[serde(default)]
    pub removable: bool,
    /// Whether it refuses to be written.
    #[serde(default)]
    pub write_protected: bool,
    /// Whether what it took is lost when it is pulled out before it has flushed.
    #[serde(default)]
    pub volatile_cache: bool,
    /// It is plugged in this long after the program began, in milliseconds.
    #[serde(default)]
    pub appears_after_ms: u64,
    /// It is plugged in when all that come before it in the same port have been pulled out.
    #[serde(default)]
    pub queues: bool,
    /// It is pulled out when nothing was done with it for so long, in milliseconds.
    pub leaves_after_ms: Option<u64>,
    /// Something larger that it is part of, in words.
    pub held_by: Option<String>,
    /// A program that has it open, in words.
    pub opened_by: Option<String>,
    /// The slot of a card reader in which it is.
    pub slot: Option<u32>,
    /// What was on it before its backing file was written.
    #[serde(default, rename = "partition")]
    pub partitions: Vec<PartitionSpec>,
    /// What is wrong with it.
    #[serde(default, rename = "fault")]
    pub faults: Vec<SimulatedFault>,
}

fn usual_sector() -> u32 {
    512
}

/// A partition that the drive came with.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartitionSpec {
    /// Number, counted from 1.
    pub number: u32,
    /// Length in bytes.
    pub bytes: u64,
    /// File system, such as `fat32`.
    pub filesystem: Option<String>,
    /// Label.
    pub label: Option<String>,
    /// Where it is mounted.
    pub mounted_at: Option<String>,
    /// How many drives it spans.
    pub drives: Option<u64>,
}

/// Something wrong with a drive. Places and lengths are bytes.
#[derive(Clone, Copy, Debug, PartialEq, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case", deny_unknown_fields)]
pub enum SimulatedFault {
    /// Writing into the range fails.
    WriteError {
        /// First byte.
        at: u64,
        /// Length.
        bytes: u64,
        /// How often; always, if nothing is said.
        times: Option<u64>,
    },
    /// Reading from the range fails.
    ReadError {
        /// First byte.
        at: u64,
        /// Length.
        bytes: u64,
        /// How often; always, if nothing is said.
        times: Option<u64>,
    },
    /// One bit of each 512 bytes in the range flips when it is written; nobody is told.
    Corrupt {
        /// First byte.
        at: u64,
        /// Length.
        bytes: u64,
        /// It begins once the drive has taken this much in one job.
        #[serde(default)]
        after_bytes: u64,
    },
    /// Writes into the range are acknowledged and forgotten.
    Drop {
        /// First byte.
        at: u64,
        /// Length.
        bytes: u64,
    },
    /// False capacity: places behind the true size wrap round to the start.
    Wrap {
        /// The true size.
        true_bytes: u64,
    },
    /// False capacity: what lies behind the true size reads as the last good part, and what is written there is forgotten.
    Repeat {
        /// The true size.
        true_bytes: u64,
        /// Length of that part.
        part_bytes: u64,
    },
    /// False capacity: what lies behind the true size reads as something else each time, and what is written there is forgotten.
    Random {
        /// The true size.
        true_bytes: u64,
    },
    /// Whatever becomes of it: of what was written last, this much is read from a cache.
    Remember {
        /// How much.
        bytes: u64,
    },
    /// The drive takes and gives no more than this.
    Slow {
        /// Bytes a second, for writing and for reading.
        bytes_per_second: u64,
    },
    /// Once it has taken this much in one job, the drive does not answer for a while.
    Stall {
        /// Bytes written until then.
        after_bytes: u64,
        /// How long.
        milliseconds: u64,
    },
    /// The drive is pulled out once it has taken this much in one job.
    Unplug {
        /// Bytes written until then.
        after_bytes: u64,
    },
}

impl Descriptor {
    /// Reads and checks a descriptor.
    ///
    /// # Errors
    /// In words, what is wrong and where.
    pub fn parse(text: &str) -> Result<Self, String> {
        let descriptor: Self = toml::from_str(text).map_err(|error| {
            let before = error.span().and_then(|span| text.get(..span.start)).unwrap_or_default();
            format!("line {}: {}", before.matches('\n').count() + 1, error.message())
        })?;
        let mut names = std::collections::BTreeSet::new();
        for drive in &descriptor.drives {
            let name = &drive.name;
            if name.is_empty() || !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-') {
                return Err(format!("the name `{name}` is not made of letters, digits and hyphens"));
            }
            if !names.insert(name) {
                return Err(format!("two drives are called `{name}`"));
            }
            if !matches!(drive.sector_bytes, 512 | 4096) {
                return Err(format!("{name}: sector_bytes is {}, not 512 or 4096", drive.sector_bytes));
            }
            if drive.bytes % u64::from(drive.sector_bytes) != 0 {
                return Err(format!("{name}: {} bytes are not whole sectors of {}", drive.bytes, drive.sector_bytes));
            }
            for fault in &drive.faults {
                if matches!(
                    fault,
                    SimulatedFault::Wrap { true_bytes: 0 }
                        | SimulatedFault::Repeat { true_bytes: 0, .. }
                        | SimulatedFault::Repeat { part_bytes: 0, .. }
                        | SimulatedFault::Slow { bytes_per_second: 0 }
                ) {
                    return Err(format!("{name}: a fault needs a number above zero"));
                }
            }
        }
        Ok(descriptor)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_wrong_descriptor_is_told_what_is_wrong() {
        let drive = "[[drive]]\nname = \"a\"\nbytes = 512\nbus = \"usb\"\n";
        let wrong = [
            "[[drive]]\nname = \"a b\"\nbytes = 0\nbus = \"usb\"".to_owned(),
            format!("{drive}{drive}"),
            format!("{drive}sector_bytes = 513\n"),
            format!("{drive}sector_bytes = 4096\n"),
            format!("{drive}[[drive.fault]]\nkind = \"wrap\"\ntrue_bytes = 0\n"),
            format!("{drive}colour = \"red\"\n"),
        ];
        let told: Vec<_> = wrong.iter().map(|text| Descriptor::parse(text).unwrap_err()).collect();
        insta::assert_snapshot!(told.join("\n"), @"
        the name `a b` is not made of letters, digits and hyphens
        two drives are called `a`
        a: sector_bytes is 513, not 512 or 4096
        a: 512 bytes are not whole sectors of 4096
        a: a fault needs a number above zero
        line 5: unknown field `colour`, expected one of `name`, `vendor`, `model`, `serial`, `bytes`, `sector_bytes`, `bus`, `link_mbps`, `port`, `could_be_faster`, `removable`, `write_protected`, `volatile_cache`, `appears_after_ms`, `queues`, `leaves_after_ms`, `held_by`, `opened_by`, `slot`, `partition`, `fault`
        ");
        assert_eq!(Descriptor::parse(pyrotyp_sample::cafe::TRAY).unwrap().drives.len(), 6);
    }

    proptest! {
        #[test]
        fn no_text_makes_it_panic(text: String) {
            let _ = Descriptor::parse(&text);
        }
    }
}
