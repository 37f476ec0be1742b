//! What findings are called, by people who accept them and by programs that read them.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The ids, each with its word: one list, so that no word is read that is not written.
macro_rules! ids {
    ($($(#[$doc:meta])* $id:ident = $word:literal,)*) => {
        /// What a [`Finding`](crate::Finding) is called, such as `external-disk`: its word never changes.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
        pub enum FindingId {
            $($(#[$doc])* #[serde(rename = $word)] $id,)*
        }

        impl FindingId {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$id),*];

            /// As people and programs write it.
            pub const fn word(self) -> &'static str {
                match self {
                    $(Self::$id => $word,)*
                }
            }
        }
    };
}

ids! {
    /// The running system needs the drive.
    SystemDisk = "system-disk",
    /// A partition was named in place of its drive.
    PartitionGiven = "partition-given",
    /// Nobody confirms the drive, and its name proves nothing.
    NoProof = "no-proof",
    /// The image lies on the drive.
    ImageOnTarget = "image-on-target",
    /// Something of this bench lies on the drive.
    BenchOnTarget = "bench-on-target",
    /// The drive is on the bench's list of protected ones.
    Protected = "protected",
    /// The drive is in use on purpose.
    InUse = "in-use",
    /// The reader's slot is empty.
    NoMedium = "no-medium",
    /// The drive refuses to be written.
    WriteProtected = "write-protected",
    /// The image does not fit.
    TooSmall = "too-small",
    /// The drive is inside the PC.
    InternalDisk = "internal-disk",
    /// A disk on USB.
    ExternalDisk = "external-disk",
    /// A loop device or the like.
    VirtualDrive = "virtual-drive",
    /// Other drives belong to what it is a member of.
    PartOfGroup = "part-of-group",
    /// A program has the drive open.
    HeldOpen = "held-open",
    /// What something that is needed lies on can't be told.
    UseUnknown = "use-unknown",
    /// The drive's sectors are of another size than the image's tables count in.
    SectorSize = "sector-size",
    /// Its kernel name is seconds old.
    FreshName = "fresh-name",
    /// An earlier job has verified it lately.
    JustVerified = "just-verified",
    /// The last job on it did not end.
    UnfinishedJob = "unfinished-job",
    /// An interrupted quick test left test data on it.
    RestorePending = "restore-pending",
    /// Its tag may fit others.
    NoSerial = "no-serial",
    /// The job will unmount a volume.
    Mounted = "mounted",
    /// The drive could be faster than its port.
    SlowPort = "slow-port",
    /// The drive is far larger than the image needs.
    FarLarger = "far-larger",
    /// Other drives could be meant.
    OthersAttached = "others-attached",
    /// There is something on the drive.
    HasData = "has-data",
    /// A download under way.
    UnfinishedDownload = "unfinished-download",
    /// The image's files belong on a FAT stick.
    NeedsLayingOut = "needs-laying-out",
    /// It starts from an optical disc only.
    OpticalOnly = "optical-only",
    /// A file system without a partition table.
    BareFilesystem = "bare-filesystem",
    /// Neither copy of the GPT is sound, and a BIOS may start it all the same.
    NoSoundTable = "no-sound-table",
    /// The image holds data only.
    NothingToStart = "nothing-to-start",
    /// The release is no longer supported.
    OutOfSupport = "out-of-support",
    /// There is a newer release.
    NewerRelease = "newer-release",
    /// The file holds no bytes.
    Empty = "empty",
    /// The file is something else.
    NotAnImage = "not-an-image",
    /// The file ends before its declared end.
    CutShort = "cut-short",
    /// The file contradicts itself, or a checksum inside fails.
    Damaged = "damaged",
    /// More than one image is packed in it.
    SeveralImages = "several-images",
    /// Unpacking takes more memory than is given for it.
    NeedsMemory = "needs-memory",
    /// One copy of the GPT can't be used.
    HalfATable = "half-a-table",
    /// A file system that starts a PC, without a partition table.
    NoPartitionTable = "no-partition-table",
    /// What starts a PC lies behind what was looked into.
    Unseen = "unseen",
    /// UEFI finds its program through the boot catalogue alone.
    OpticalEntry = "optical-entry",
    /// It is laid out for sectors of 4096 bytes.
    LargeSectors = "large-sectors",
    /// A program is made for another processor than its name says.
    OtherProcessor = "other-processor",
    /// Bytes follow the declared end.
    Padding = "padding",
    /// The boot catalogue's checksum is wrong.
    CatalogueChecksum = "catalogue-checksum",
    /// Partitions overlap.
    Overlapping = "overlapping",
}

impl fmt::Display for FindingId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// No finding is called so.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("no finding has this id")]
pub struct UnknownId;

impl FromStr for FindingId {
    type Err = UnknownId;

    fn from_str(word: &str) -> Result<Self, UnknownId> {
        Self::ALL.iter().copied().find(|id| id.word() == word).ok_or(UnknownId)
    }
}
