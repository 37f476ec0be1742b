//! An image of any kind, packed or not, whole or only its start: looked into and judged.

use std::io;
use std::sync::Arc;

use crate::bytes::ReadAt;
use crate::image::facts::MBR_SECTOR;
use crate::image::gather::{HEAD, read, read_part};
use crate::image::inspection::{Container, Inspection};
use crate::image::packed::{Packed, PackedFault, Seen, SharedBytes};
use crate::image::{judge, packed};
use crate::volume::iso9660;

/// Reads what the image says about itself and judges it; a few MiB at most, whatever its size.
///
/// # Errors
/// When the image can't be read. What its bytes say is never an error, but a finding.
pub fn inspect(image: &dyn ReadAt) -> io::Result<Inspection> {
    inspect_on(image, MBR_SECTOR)
}

/// Like [`inspect`], of what lies on a drive with sectors of this size: an MBR does not tell in which it counts.
///
/// # Errors
/// As there.
pub fn inspect_on(drive: &dyn ReadAt, sector_bytes: u32) -> io::Result<Inspection> {
    let facts = read(drive, sector_bytes)?;
    Ok(judge::judge(facts))
}

/// An image that was looked into, and how to get at what is inside if it is packed.
pub struct Opened {
    /// What it is; of what is inside, if it is packed.
    pub inspection: Inspection,
    /// The packing.
    pub packed: Option<Packed>,
}

/// Like [`inspect`], and looks into packed images as well: into the first MiB of what is inside.
///
/// # Errors
/// When the file can't be read.
pub fn open(source: &SharedBytes) -> io::Result<Opened> {
    let mut magic = vec![0u8; HEAD];
    let count = source.fill_at(0, &mut magic)?;
    magic.truncate(count);
    let Some(format) = packed::Format::of(&magic).filter(|_| !matches!(iso9660::read(&**source), Ok(Some(_)))) else {
        return Ok(Opened { inspection: inspect(&**source)?, packed: None });
    };
    let opened = Packed::open(Arc::clone(source), format).and_then(|packed| Ok((Seen::of(&packed)?, packed)));
    let (mut inspection, packed) = match opened {
        Ok((mut seen, packed)) => {
            let mut facts = read_part(&seen)?;
            let wanted = facts.wanted();
            let mut fault = packed.is_cut.then_some(PackedFault::Cut { format });
            if !wanted.is_empty() {
                fault = seen.look_for(&packed, &wanted).err().or(fault);
                facts = read_part(&seen)?;
            }
            let mut inspection = judge::judge(facts);
            if let Some(fault) = fault {
                judge::broken_container(&mut inspection, &fault);
            }
            (inspection, Some(packed))
        }
        Err(fault) => (judge::unpackable(&fault), None),
    };
    let unpacked_bytes = packed.as_ref().and_then(|packed| packed.unpacked_bytes);
    inspection.bytes = source.size();
    inspection.container = Some(Container { format, unpacked_bytes });
    Ok(Opened { inspection, packed })
}

/// What the first bytes of an image tell that comes through a pipe or over a line.
pub struct Beginning {
    /// What it is, as far as its start tells.
    pub inspection: Inspection,
    /// How it is packed.
    pub packed: Option<packed::Format>,
}

/// Like [`open`], for an image of which no more than its `start` is there; `total` is its length where that is known.
///
/// # Errors
/// Never but when memory can't be read.
pub fn begin(start: &[u8], total: Option<u64>) -> io::Result<Beginning> {
    let start = start.to_vec();
    let format = packed::Format::of(&start).filter(|_| !matches!(iso9660::read(&start), Ok(Some(_))));
    let Some(format) = format else {
        let is_all = total == Some(start.len() as u64);
        let facts = if is_all { read(&start, MBR_SECTOR)? } else { read_part(&Seen::start(start, total))? };
        return Ok(Beginning { inspection: judge::judge(facts), packed: None });
    };
    let mut bytes = Vec::new();
    // It ends in the middle of course; what came out before that is what counts.
    let unpacked = packed::unpacking(format, &*start)
        .map(|stream| io::Read::read_to_end(&mut io::Read::take(stream, packed::HEAD_BYTES as u64), &mut bytes));
    let mut inspection = match unpacked {
        Ok(_) => judge::judge(read_part(&Seen::start(bytes, None))?),
        Err(_) => judge::unpackable(&PackedFault::ZipOnTheWay),
    };
    inspection.container = Some(Container { format, unpacked_bytes: None });
    Ok(Beginning { inspection, packed: Some(format) })
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;
    use crate::image::Whole;
    use proptest::prelude::*;

    fn gz(bytes: &[u8]) -> Vec<u8> {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(bytes).unwrap();
        packed.finish().unwrap()
    }

    #[test]
    fn the_start_of_an_image_tells_what_it_is_packed_or_not() {
        let image = pyrotyp_sample::cafe::desktop().build();
        let (whole, packed) = (inspect(&image).unwrap(), gz(&image));
        for (bytes, format) in [(&image, None), (&packed, Some(packed::Format::Gz))] {
            let start = &bytes[..bytes.len().min(2 << 20)];
            let begun = begin(start, None).unwrap();
            assert_eq!(begun.packed, format);
            assert_eq!(
                (begun.inspection.naming.name, begun.inspection.label),
                (whole.naming.name.clone(), whole.label.clone())
            );
            assert_eq!(begun.inspection.span.declared_bytes, whole.span.declared_bytes);
            assert!(begun.inspection.findings.iter().all(|finding| finding.level != crate::Level::Stop));
        }
        // With its length, a cut is told before a byte of a drive changes.
        let cut = begin(&image[..2 << 20], Some(9 << 20)).unwrap().inspection;
        assert_eq!(cut.span.whole, Whole::No);
        let id =
            |start: &[u8]| begin(start, None).unwrap().inspection.findings.first().map(|finding| finding.id.word());
        assert_eq!(id(b"<html>404</html>"), Some("not-an-image"));
        assert_eq!(id(b"PK\x03\x04 and so on"), Some("damaged"));
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn no_start_makes_it_panic(
            is_packed: bool,
            hits in prop::collection::vec((0usize..200_000, any::<u8>()), 0..40),
            length in 0usize..300_000,
            total in prop::option::of(0u64..1 << 40),
        ) {
            let image = pyrotyp_sample::cafe::rescue().build();
            let mut start = if is_packed { gz(&image[..400_000]) } else { image };
            hits.into_iter().for_each(|(at, byte)| if let Some(place) = start.get_mut(at) { *place = byte; });
            start.truncate(length);
            begin(&start, total).unwrap();
        }
    }
}
