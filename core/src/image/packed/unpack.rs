//! A packed image that is open: its bytes in order, measured once, and then read at any place.

use std::io::{self, Read};
use std::sync::{Arc, Mutex, PoisonError};

use crate::bytes::ReadAt;
use crate::hash;
use crate::hash::{Algorithm, BlockDigests, BlockHasher, Hashers, Taker};
use crate::image::packed::fault::PackedFault;
use crate::image::packed::format::Format;
use crate::image::packed::shared_bytes::SharedBytes;
use crate::image::packed::zipped::{Sequential, Summed, ZippedFile, only_image};
use crate::image::packed::{members, needs, size};
use crate::stop::Cancel;

/// How much of what is inside is looked at, in bytes.
pub const HEAD_BYTES: usize = 1 << 20;
/// A packed image, and how to get at what is inside.
#[derive(Clone)]
pub struct Packed {
    source: SharedBytes,
    /// How it is packed.
    pub format: Format,
    /// Size of what is inside, where the container says it.
    pub unpacked_bytes: Option<u64>,
    /// Whether the file ends before its own end, as far as that shows without unpacking.
    pub is_cut: bool,
    entry: Option<ZippedFile>,
}

/// Unpacks what `packed` gives, in its order.
///
/// # Errors
/// When the codec refuses the container's head; a zip, whose directory lies at its end, can't be unpacked in order.
pub fn unpacking<'a>(format: Format, packed: impl Read + Send + 'a) -> io::Result<Box<dyn Read + Send + 'a>> {
    Ok(Box::new(members::Members::new(format, packed)?))
}

impl Packed {
    /// Opens a packed image.
    ///
    /// # Errors
    /// When a zip holds anything but exactly one image that can be unpacked.
    pub fn open(source: SharedBytes, format: Format) -> Result<Self, PackedFault> {
        if format == Format::Zip {
            let (bytes, entry) = only_image(&source)?;
            return Ok(Self { source, format, unpacked_bytes: Some(bytes), is_cut: false, entry: Some(entry) });
        }
        // A size that can't be read is one that the container does not tell.
        let told = size::of(format, &*source).unwrap_or(size::Told::Nothing);
        let unpacked_bytes = if let size::Told::Bytes(bytes) = told { Some(bytes) } else { None };
        Ok(Self { source, format, unpacked_bytes, is_cut: matches!(told, size::Told::Cut), entry: None })
    }

    /// What is inside, from its start.
    ///
    /// # Errors
    /// When the codec refuses the container's head.
    pub fn stream(&self) -> io::Result<Box<dyn Read + Send>> {
        let packed = Sequential { source: Arc::clone(&self.source), at: 0 };
        let Format::Zip = self.format else { return unpacking(self.format, packed) };
        let Some(entry) = self.entry.clone() else { return Err(io::ErrorKind::InvalidData.into()) };
        let part = Sequential { at: entry.start, ..packed }.take(entry.packed_bytes);
        let inner: Box<dyn Read + Send> =
            if entry.is_stored { Box::new(part) } else { Box::new(flate2::read::DeflateDecoder::new(part)) };
        let left = self.unpacked_bytes.unwrap_or_default();
        Ok(Box::new(Summed { inner, hasher: crc32fast::Hasher::new(), expected: entry.crc, left }))
    }

    /// Unpacks all of it once, to nowhere: proves that the container is whole and tells what is inside.
    ///
    /// `progress` hears the bytes done.
    ///
    /// # Errors
    /// When it is damaged, more than `limit` bytes come out, or `cancel` says stop.
    pub fn measure(self, limit: u64, cancel: &Cancel, progress: &mut dyn FnMut(u64)) -> Result<Unpacked, PackedFault> {
        let mut stream = self.stream().map_err(|source| self.damaged(0, source))?;
        let mut hashers = Hashers::new([Algorithm::Sha256]);
        let mut blocks = BlockHasher::new();
        let mut at = 0u64;
        let takers = hashers.takers().chain(std::iter::once(Box::new(&mut blocks) as Box<dyn Taker>));
        hash::show(takers, &mut |into| {
            progress(at);
            let mut filled = 0usize;
            while let Some(rest) = into.get_mut(filled..).filter(|rest| !rest.is_empty()) {
                if cancel.is_set() {
                    return Err(PackedFault::Stopped);
                }
                match stream.read(rest) {
                    Ok(0) => break,
                    Ok(count) => filled = filled.saturating_add(count),
                    Err(fault) if fault.kind() == io::ErrorKind::Interrupted => {}
                    Err(source) => return Err(self.damaged(at.saturating_add(filled as u64), source)),
                }
            }
            at = at.saturating_add(filled as u64);
            if at > limit { Err(PackedFault::TooLong { format: self.format, limit }) } else { Ok(filled) }
        })?;
        let sha256 = hashers.finish().pop().map(|sum| sum.hex).unwrap_or_default();
        Ok(Unpacked { packed: self, bytes: at, sha256, blocks: blocks.finish(), place: Mutex::new(None) })
    }

    pub(super) fn damaged(&self, at: u64, source: io::Error) -> PackedFault {
        let format = self.format;
        match source.get_ref().and_then(|inner| inner.downcast_ref::<needs::TooMuch>()) {
            Some(needs::TooMuch(bytes)) => PackedFault::NeedsMemory { format, bytes: *bytes },
            None if self.is_cut && source.kind() == io::ErrorKind::UnexpectedEof => PackedFault::Cut { format },
            None => PackedFault::Damaged { format, at, source },
        }
    }
}

/// What is inside a packed image, once all of it was seen. Reading forward unpacks on; reading back begins again.
pub struct Unpacked {
    packed: Packed,
    bytes: u64,
    /// SHA-256 of what is inside.
    pub sha256: String,
    /// Digests of its blocks.
    pub blocks: BlockDigests,
    place: Mutex<Option<Place>>,
}

struct Place {
    stream: Box<dyn Read + Send>,
    at: u64,
}

impl Clone for Unpacked {
    /// The same, read from its start.
    fn clone(&self) -> Self {
        let Self { packed, bytes, sha256, blocks, .. } = self;
        Self {
            packed: packed.clone(),
            bytes: *bytes,
            sha256: sha256.clone(),
            blocks: blocks.clone(),
            place: Mutex::new(None),
        }
    }
}

impl ReadAt for Unpacked {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        if at >= self.bytes {
            return Ok(0);
        }
        let mut place = self.place.lock().unwrap_or_else(PoisonError::into_inner);
        // Taken out, so that a stream which failed is not used again.
        let mut here = match place.take() {
            Some(here) if here.at <= at => here,
            _ => Place { stream: self.packed.stream()?, at: 0 },
        };
        let skip = at.saturating_sub(here.at);
        let skipped = io::copy(&mut here.stream.by_ref().take(skip), &mut io::sink())?;
        if skipped < skip {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let count = here.stream.read(into)?;
        here.at = at.saturating_add(count as u64);
        *place = Some(here);
        Ok(count)
    }

    fn onward(&self, at: u64) -> io::Result<Option<Box<dyn Read + Send + '_>>> {
        let mut stream = self.packed.stream()?;
        let skipped = io::copy(&mut stream.by_ref().take(at), &mut io::sink())?;
        if skipped < at {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        Ok(Some(stream))
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;
    use crate::image::packed::Seen;
    use proptest::prelude::*;

    const FORMATS: [Format; 6] = [Format::Gz, Format::Xz, Format::Zst, Format::Bz2, Format::Lz4, Format::Zip];

    /// `bytes` as the format's own tools would pack them; a zip has a text file beside the image.
    fn pack(format: Format, bytes: &[u8]) -> Vec<u8> {
        let all = |mut writer: Box<dyn Write + '_>| writer.write_all(bytes).unwrap();
        let mut out = Vec::new();
        match format {
            Format::Gz => all(Box::new(flate2::write::GzEncoder::new(&mut out, flate2::Compression::fast()))),
            Format::Xz => all(Box::new(liblzma::write::XzEncoder::new(&mut out, 1))),
            Format::Zst => {
                let mut codec = zstd::bulk::Compressor::new(1).unwrap();
                codec.include_checksum(true).unwrap();
                out = codec.compress(bytes).unwrap();
            }
            Format::Bz2 => all(Box::new(bzip2::write::BzEncoder::new(&mut out, bzip2::Compression::fast()))),
            Format::Lz4 => {
                let mut writer = lz4_flex::frame::FrameEncoder::new(&mut out);
                writer.write_all(bytes).unwrap();
                writer.finish().unwrap();
            }
            Format::Zip => {
                let mut zip = zip::ZipWriter::new(io::Cursor::new(&mut out));
                for (name, bytes) in [("READ ME.txt", &b"hello"[..]), ("larkspur.iso", bytes)] {
                    zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
                    zip.write_all(bytes).unwrap();
                }
                zip.finish().unwrap();
            }
        }
        out
    }

    fn open(bytes: Vec<u8>) -> Result<Packed, PackedFault> {
        let format = Format::of(&bytes).unwrap();
        Packed::open(Arc::new(bytes), format)
    }

    fn measure(packed: Packed, limit: u64) -> Result<Unpacked, PackedFault> {
        packed.measure(limit, &Cancel::new(), &mut |_| ())
    }

    /// Noise and zeros by turns, so that packing has something to do.
    fn sample() -> Vec<u8> {
        let mut bytes = pyrotyp_sample::noise(1_500_000, 5);
        bytes[200_000..900_000].fill(0);
        bytes
    }

    #[test]
    fn what_was_packed_comes_out_at_any_place_and_its_size_is_known_where_it_is_said() {
        let image = sample();
        let mut sizes = Vec::new();
        for format in FORMATS {
            let packed = open(pack(format, &image)).unwrap();
            sizes.push((format.name(), packed.unpacked_bytes.is_some()));
            assert!(packed.unpacked_bytes.is_none_or(|bytes| bytes == image.len() as u64), "{format:?}");
            let unpacked = measure(packed, u64::MAX).unwrap();
            assert_eq!(unpacked.size(), image.len() as u64);
            for at in [0usize, 1_499_000, 3, 800_000, 799_999] {
                let mut found = vec![0; 1000];
                let count = unpacked.fill_at(at as u64, &mut found).unwrap();
                assert_eq!(found[..count], image[at..(at + 1000).min(image.len())], "{format:?} at {at}");
            }
        }
        assert_eq!(sizes, [("gz", false), ("xz", true), ("zst", true), ("bz2", false), ("lz4", false), ("zip", true)]);
    }

    #[test]
    fn a_container_that_is_cut_or_damaged_never_passes() {
        for format in FORMATS {
            let whole = pack(format, &sample());
            for keep in [whole.len() / 3, whole.len() / 2, whole.len() - 5] {
                let cut = open(whole[..keep].to_vec()).and_then(|packed| measure(packed, u64::MAX));
                assert!(cut.is_err(), "{format:?} cut at {keep} of {}", whole.len());
            }
            if format != Format::Lz4 {
                // LZ4 frames need not carry any checksum.
                let mut damaged = whole.clone();
                damaged[whole.len() / 2] ^= 1;
                assert!(open(damaged).and_then(|packed| measure(packed, u64::MAX)).is_err(), "{format:?} damaged");
            }
        }
    }

    /// What may stand behind a packed file's last part.
    #[derive(Clone, Debug)]
    enum Tail {
        Nothing,
        Zeros(usize),
        Junk(Vec<u8>),
        /// Another part, short of its last bytes.
        Cut(usize),
        /// A frame that is for others.
        Skippable(usize),
    }

    fn any_tail() -> impl Strategy<Value = Tail> {
        prop_oneof![
            Just(Tail::Nothing),
            (1usize..3000).prop_map(Tail::Zeros),
            prop::collection::vec(1u8.., 1..40).prop_map(Tail::Junk),
            (1usize..60).prop_map(Tail::Cut),
            (0usize..200).prop_map(Tail::Skippable),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

        /// As the formats' own unpackers have it; the programs' own tests hold it to those programs.
        #[test]
        fn all_parts_come_out_or_the_file_is_refused(
            format in prop::sample::select(FORMATS[..5].to_vec()),
            lengths in prop::collection::vec(0usize..50_000, 1..4),
            tail in any_tail(),
        ) {
            let (mut packed, mut image) = (Vec::new(), Vec::new());
            for (number, length) in lengths.iter().enumerate() {
                let part = pyrotyp_sample::noise(*length, number as u64);
                packed.extend(pack(format, &part));
                image.extend(part);
            }
            let last = pack(format, b"one more part");
            let is_whole = match &tail {
                Tail::Nothing => true,
                Tail::Zeros(count) => match format {
                    Format::Xz => count % 4 == 0,
                    Format::Gz | Format::Bz2 => true,
                    _ => false,
                },
                Tail::Junk(_) | Tail::Cut(_) => false,
                Tail::Skippable(_) => matches!(format, Format::Zst | Format::Lz4),
            };
            packed.extend(match tail {
                Tail::Nothing => Vec::new(),
                Tail::Zeros(count) => vec![0; count],
                Tail::Junk(junk) => junk,
                Tail::Cut(by) => last[..last.len().saturating_sub(by).max(1)].to_vec(),
                Tail::Skippable(size) => {
                    let size_field = (size as u32).to_le_bytes();
                    [&[0x57, 0x2A, 0x4D, 0x18][..], &size_field, &vec![b'x'; size]].concat()
                }
            });
            let out = measure(open(packed).unwrap(), u64::MAX);
            if is_whole {
                let unpacked = out.map_err(|fault| TestCaseError::fail(crate::text::chain(&fault)))?;
                prop_assert_eq!(unpacked.size(), image.len() as u64);
                prop_assert_eq!(unpacked.sha256, sha256(&image));
            } else {
                prop_assert!(out.is_err());
            }
        }
    }

    fn sha256(bytes: &[u8]) -> String {
        let mut hashers = Hashers::new([Algorithm::Sha256]);
        hashers.update(bytes);
        hashers.finish().remove(0).hex
    }

    #[test]
    fn cut_at_the_end_of_a_block_a_file_is_not_whole_and_frames_for_others_may_come_first() {
        let image = sample();
        // The end mark of an LZ4 frame, and the checksum behind the last block of a Zstandard frame.
        for (format, bytes) in [(Format::Lz4, 4), (Format::Zst, 4)] {
            let packed = pack(format, &image);
            let cut = packed[..packed.len() - bytes].to_vec();
            assert!(measure(open(cut).unwrap(), u64::MAX).is_err(), "{format:?}");
            let before = [&[0x50, 0x2A, 0x4D, 0x18, 4, 0, 0, 0, 1, 2, 3, 4][..], &packed].concat();
            assert_eq!(measure(open(before).unwrap(), u64::MAX).unwrap().sha256, sha256(&image), "{format:?}");
        }
        // Two frames, of which the first says its size: that is not the size of all.
        let sized = |bytes: &[u8]| {
            let info = lz4_flex::frame::FrameInfo::new().content_size(Some(bytes.len() as u64));
            let mut writer = lz4_flex::frame::FrameEncoder::with_frame_info(info, Vec::new());
            writer.write_all(bytes).unwrap();
            writer.finish().unwrap()
        };
        assert_eq!(open(sized(&image)).unwrap().unpacked_bytes, Some(image.len() as u64));
        assert_eq!(open([sized(&image), sized(&image)].concat()).unwrap().unpacked_bytes, None);
    }

    #[test]
    fn a_file_of_ever_so_many_empty_parts_is_given_up() {
        for format in &FORMATS[..5] {
            let none = pack(*format, b"").repeat(200_000);
            let Err(fault) = measure(open(none).unwrap(), u64::MAX) else { panic!("{format:?}") };
            let told = crate::text::chain(&fault);
            assert!(told.ends_with("it is made of 1001 parts and more, with hardly anything in them"), "{told}");
        }
    }

    #[test]
    fn several_readers_go_onward_from_any_place_each_for_itself() {
        for format in FORMATS {
            let unpacked = measure(open(pack(format, &sample())).unwrap(), u64::MAX).unwrap();
            let places = [0, 1, sample().len() / 2, sample().len()];
            let mut readers: Vec<_> = places.iter().map(|at| unpacked.onward(*at as u64).unwrap().unwrap()).collect();
            let mut read: Vec<Vec<u8>> = places.iter().map(|_| Vec::new()).collect();
            // In turn, so that none can live on what another has read.
            for _ in 0..=sample().len() / 1000 {
                for (reader, read) in readers.iter_mut().zip(&mut read) {
                    reader.by_ref().take(1001).read_to_end(read).unwrap();
                }
            }
            for (at, read) in places.iter().zip(&read) {
                assert!(*read == sample()[*at..], "{format:?} from {at}");
            }
            let behind = unpacked.onward(sample().len() as u64 + 1);
            assert!(behind.is_err(), "{format:?}: there is nothing behind the end");
        }
    }

    #[test]
    fn an_unpacking_bomb_ends_at_the_limit() {
        let zeros = vec![0u8; 64 << 20];
        for format in FORMATS {
            let packed = open(pack(format, &zeros)).unwrap();
            assert_eq!(Seen::of(&packed).unwrap().fill_at(0, &mut vec![0; HEAD_BYTES + 1]).unwrap(), HEAD_BYTES);
            let Err(PackedFault::TooLong { limit, .. }) = measure(packed, 1 << 20) else { panic!("{format:?}") };
            assert_eq!(limit, 1 << 20);
        }
    }

    #[test]
    fn a_zip_says_what_keeps_it_from_being_an_image() {
        let zip_of = |names: &[&str]| {
            let mut out = Vec::new();
            let mut zip = zip::ZipWriter::new(io::Cursor::new(&mut out));
            for name in names {
                zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            }
            zip.finish().unwrap();
            out
        };
        let told = |names| open(zip_of(names)).map(|_| "one image").map_err(|fault| fault.to_string());
        assert_eq!(told(&["only file"]), Ok("one image"));
        assert_eq!(told(&["a/", "a/x.ISO", "notes.txt"]), Ok("one image"));
        insta::assert_snapshot!(told(&["a.iso", "b.img", "c.txt"]).unwrap_err(), @"the zip file holds 2 images: a.iso, b.img");
        insta::assert_snapshot!(told(&["a.txt", "b.txt"]).unwrap_err(), @"the zip file holds no image among its 2 files");
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(format in 0usize..6, hits in proptest::collection::vec((0usize..400, any::<u8>()), 1..12), cut in 8usize..4000) {
            let mut bytes = pack(FORMATS[format], &pyrotyp_sample::noise(3000, 8));
            let magic = bytes[..6].to_vec();
            bytes.truncate(cut);
            for (at, byte) in hits {
                // Half of them from the end, where directories and indexes are.
                let place = if at % 2 == 0 { at.min(bytes.len() - 1) } else { bytes.len().saturating_sub(1 + at) };
                bytes[place] = byte;
            }
            bytes[..6].copy_from_slice(&magic);
            if let Ok(packed) = open(bytes) {
                let _ = Seen::of(&packed);
                let _ = measure(packed, 1 << 20);
            }
        }
    }
}
