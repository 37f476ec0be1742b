//! A drive as what is read: had for this alone, looked into, as far as what is on it reaches.

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::devices::{After, Claimed, DriveIo, Platform};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::image::{self, Inspection};
use pyrotyp_core::record::JobKind;

use crate::exit::{Exit, Failure, plain};
use crate::session::Session;
use crate::session::claim::claim_without_confirmation;
use crate::session::pending_restore::warn_if_pending;

/// A drive that is read, and that nobody changes meanwhile.
pub(crate) enum ReadDrive {
    /// It is had for this alone.
    Claimed(Box<dyn Claimed>),
    /// It can't be changed at all.
    Protected(Box<dyn DriveIo>),
}

impl ReadDrive {
    /// Has it for `kind` of job, which calls it so.
    pub(crate) fn of(
        kind: JobKind,
        called: &str,
        drive: &Drive,
        platform: &dyn Platform,
        session: &Session<'_>,
    ) -> Result<Self, Failure> {
        if drive.write_protected {
            return Ok(Self::Protected(platform.open(drive)?));
        }
        warn_if_pending(drive, platform, session.common);
        Ok(Self::Claimed(claim_without_confirmation(kind, called, drive, platform, session.common)?))
    }

    /// What is read.
    pub(crate) fn drive(&self) -> &dyn DriveIo {
        match self {
            Self::Claimed(drive) => &**drive,
            Self::Protected(drive) => &**drive,
        }
    }

    /// It may be used again.
    pub(crate) fn give_back(self) {
        if let Self::Claimed(drive) = self {
            // Nothing was changed on it.
            let _ = drive.release(After::Keep);
        }
    }
}

/// How much of a drive counts, in bytes.
pub(crate) fn reach(inspection: &Inspection, of: &Drive) -> Result<u64, Failure> {
    let declared = inspection.span.declared_bytes.filter(|bytes| *bytes > 0);
    declared.map(|bytes| bytes.min(of.bytes)).ok_or_else(|| {
        let text = format!("nothing on drive {} tells how far what is on it reaches", of.tag);
        Failure::new(Exit::Refused, text, format!("save all of it: pyrotyp save {} FILE --whole", of.tag))
    })
}

/// What is on a drive, as far as it tells.
pub(crate) fn looked_into(of: &Drive, bytes: &dyn ReadAt) -> Result<Inspection, Failure> {
    image::inspect_on(bytes, of.sector_bytes).map_err(|error| {
        let text = format!("drive {} can't be read: {}", of.tag, plain(&error));
        Failure::new(Exit::Drive, text, "plug it into another port; if it stays so, it fails")
    })
}
