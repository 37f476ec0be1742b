//! All that the bytes tell about an image, judged.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{Finding, FindingId, Level};

use crate::image::architecture::Architecture;
use crate::image::facts::EspVolume;
use crate::image::naming::Naming;
use crate::image::packed::Format;
use crate::volume::{apm, eltorito, gpt, iso9660, mbr};

/// What kind of thing the file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// An ISO 9660 volume, hybrid or not.
    Iso9660,
    /// A disk with a partition table.
    Disk,
    /// One file system without a partition table.
    Filesystem,
    /// Packed, or an archive of files.
    Archive,
    /// No bytes at all.
    Empty,
    /// Anything else.
    Other,
}

/// Whether the file reaches to the furthest end that it declares.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Whole {
    /// It does.
    Yes,
    /// It ends before.
    No,
    /// It declares no end.
    Unknown,
}

/// Whether a stick made from this image starts a PC.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// It should.
    Ready,
    /// It may not; the findings say why.
    Caution,
    /// It won't.
    No,
}

/// How an image is brought to a stick so that it starts a PC.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Way {
    /// Raw: byte for byte, as it is.
    Raw,
    /// Its files are laid out.
    Unpack,
    /// Neither makes a stick of it that starts one.
    Neither,
}

/// Firmware that starts a PC.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Firmware {
    /// BIOS, or UEFI that imitates it.
    Bios,
    /// UEFI.
    Uefi,
}

/// Where the firmware finds what it starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Via {
    /// Boot code in the first sector: from a stick.
    Mbr,
    /// EFI system partition: from a stick.
    Esp,
    /// Boot catalogue: from an optical disc.
    ElTorito,
}

/// One way in which a PC starts from the image.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Boot {
    /// Which firmware.
    pub firmware: Firmware,
    /// Which processor.
    pub arch: Architecture,
    /// From where.
    pub via: Via,
    /// Whether the program carries a signature, without which Secure Boot starts nothing; `None` for a BIOS.
    pub signed: Option<bool>,
}

/// A packed image's wrapping.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Container {
    /// How it is packed.
    pub format: Format,
    /// Size of what is inside, where the container says it.
    pub unpacked_bytes: Option<u64>,
}

/// How far an image goes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Span {
    /// Whether it reaches to its declared end.
    pub whole: Whole,
    /// The furthest end that any table or volume declares, in bytes.
    pub declared_bytes: Option<u64>,
    /// Size of the smallest drive that takes it, in bytes.
    pub needs_bytes: u64,
}

/// What an image is to an optical drive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Optical {
    /// The ISO 9660 volume.
    pub volume: Option<iso9660::IsoVolume>,
    /// What an optical drive offers to start.
    pub catalogue: Option<eltorito::BootCatalogue>,
    /// When the volume was made.
    pub created: Option<String>,
}

/// The partition tables of an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tables {
    /// Size of the sectors in which its partition tables count, in bytes; `None` if it has none.
    pub sector_bytes: Option<u32>,
    /// Partitions of the MBR, logical ones too.
    pub mbr: Vec<mbr::MbrPartition>,
    /// Partitions of the GPT.
    pub gpt: Vec<gpt::GptPartition>,
    /// Partitions of an Apple partition map.
    pub apm: Vec<apm::ApmPartition>,
}

/// All that the bytes tell about an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Inspection {
    /// Size of the file, in bytes.
    pub bytes: u64,
    /// What it is.
    pub kind: Kind,
    /// Its wrapping, if packed.
    pub container: Option<Container>,
    /// Volume label.
    pub label: Option<String>,
    /// What the image calls itself.
    pub naming: Naming,
    /// What it is to an optical drive.
    pub optical: Optical,
    /// How far it goes.
    pub span: Span,
    /// Whether a stick made from it starts a PC.
    pub verdict: Verdict,
    /// The reasons, and whatever else is worth knowing.
    pub findings: Vec<Finding>,
    /// Ways in which PCs start from it.
    pub boots: Vec<Boot>,
    /// The FAT volumes that were looked into.
    pub esps: Vec<EspVolume>,
    /// Its partition tables.
    pub tables: Tables,
}

/// What is still worth knowing of an image when it is on a stick.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Summary {
    /// Volume label.
    pub label: Option<String>,
    /// What it calls itself: system, version and edition.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// For which processors it is, by its name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub architecture: Option<Architecture>,
    /// Whether a stick made from it starts a PC.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub verdict: Option<Verdict>,
    /// Ways in which PCs start from it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub boots: Vec<Boot>,
}

impl Inspection {
    /// The same in short.
    pub fn summary(&self) -> Summary {
        Summary {
            label: self.label.clone(),
            title: self.title(),
            architecture: self.naming.architecture,
            verdict: Some(self.verdict),
            boots: self.boots.clone(),
        }
    }

    /// How it is brought to a stick so that it starts a PC.
    pub fn way(&self) -> Way {
        let has = |wanted: &dyn Fn(&Finding) -> bool| self.findings.iter().any(wanted);
        match self.verdict {
            Verdict::Ready | Verdict::Caution => Way::Raw,
            Verdict::No if has(&|finding| finding.level == Level::Stop) => Way::Neither,
            Verdict::No if has(&|finding| finding.id == FindingId::NeedsLayingOut) => Way::Unpack,
            Verdict::No => Way::Neither,
        }
    }

    /// What the image is called, everywhere the same: system, version and edition, or else its label.
    pub fn title(&self) -> Option<String> {
        self.naming.title().or_else(|| self.label.clone())
    }
}
