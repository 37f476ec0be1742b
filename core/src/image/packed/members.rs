//! The parts that a packed file is made of, one after the other: gzip members, xz and bzip2 streams, frames.
//!
//! What a container's own unpacker takes as the end is taken as the end, and nothing else: padding is read to its last byte,
//! and bytes that belong to nothing are an error, since whoever packed them did not mean to have them left out.
//!
//! Sources: RFC 1952 §2.2 (members), the .xz file format 1.2.0 §2 and §2.2 (streams and their padding), RFC 8878 §3
//! (frames), the LZ4 frame format 1.6.2 (concatenated and skippable frames).

use std::io::{self, BufRead, Read};

use crate::image::packed::format::{Format, LZ4_MAGIC, is_skippable};
use crate::image::packed::needs;
use crate::image::packed::needs::{CODEC_MEMORY_MOST, XZ_THREADS_MEMORY_MOST, XZ_THREADS_MOST};

/// Bytes that are read at once.
const BUFFER: usize = 64 << 10;
/// So many parts may give nothing at all, and one more for each so many bytes that came out.
const EMPTY_MOST: u64 = 1000;
const BYTES_EACH: u64 = 4096;
/// Largest window that Zstandard may ask for, as a power of two (RFC 8878 §3.1.1.1.2): [`CODEC_MEMORY_MOST`].
const ZST_WINDOW_LOG_MOST: u32 = CODEC_MEMORY_MOST.ilog2();
/// Bytes with a look ahead, which knows whether anybody wanted more than there is.
struct Ahead<R> {
    inner: R,
    buffer: Vec<u8>,
    start: usize,
    end: usize,
    /// Somebody asked for bytes behind the last one.
    was_asked_too_much: bool,
}

impl<R: Read> Ahead<R> {
    fn new(inner: R) -> Self {
        Self { inner, buffer: vec![0; BUFFER], start: 0, end: 0, was_asked_too_much: false }
    }

    /// The next bytes without taking them: `most` of them, or as many as there are.
    fn peek(&mut self, most: usize) -> io::Result<&[u8]> {
        if self.end.saturating_sub(self.start) < most {
            self.buffer.copy_within(self.start..self.end, 0);
            (self.start, self.end) = (0, self.end.saturating_sub(self.start));
            while self.end < most {
                match self.inner.read(self.buffer.get_mut(self.end..).unwrap_or_default()) {
                    Ok(0) => break,
                    Ok(count) => self.end = self.end.saturating_add(count),
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                }
            }
        }
        let there = self.buffer.get(self.start..self.end).unwrap_or_default();
        Ok(there.get(..most).unwrap_or(there))
    }

    /// Takes zeros up to the first other byte, and tells how many there were.
    fn skip_zeros(&mut self) -> io::Result<u64> {
        let mut count = 0u64;
        loop {
            let there = self.peek(1)?.len();
            let next = self.buffer.get(self.start..self.end).unwrap_or_default();
            let zeros = next.iter().take_while(|byte| **byte == 0).count();
            let is_over = there == 0 || zeros < next.len();
            self.consume(zeros);
            count = count.saturating_add(zeros as u64);
            if is_over {
                return Ok(count);
            }
        }
    }

    fn skip(&mut self, bytes: u64) -> io::Result<()> {
        let skipped = io::copy(&mut self.by_ref().take(bytes), &mut io::sink())?;
        if skipped == bytes { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }
}

impl<R: Read> Read for Ahead<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.fill_buf()?.read(into)?;
        self.was_asked_too_much |= count == 0 && !into.is_empty();
        self.consume(count);
        Ok(count)
    }
}

impl<R: Read> BufRead for Ahead<R> {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        self.peek(1)?;
        Ok(self.buffer.get(self.start..self.end).unwrap_or_default())
    }

    fn consume(&mut self, count: usize) {
        self.start = self.start.saturating_add(count).min(self.end);
    }
}

/// One part, by its codec.
enum Member<R: Read> {
    Gz(flate2::bufread::GzDecoder<Ahead<R>>),
    Xz(liblzma::bufread::XzDecoder<Ahead<R>>),
    Zst(zstd::stream::read::Decoder<'static, Ahead<R>>),
    Bz2(bzip2::bufread::BzDecoder<Ahead<R>>),
    Lz4(Box<lz4_flex::frame::FrameDecoder<Ahead<R>>>),
}

impl<R: Read> Member<R> {
    fn open(format: Format, packed: Ahead<R>) -> io::Result<Self> {
        Ok(match format {
            Format::Gz => Self::Gz(flate2::bufread::GzDecoder::new(packed)),
            Format::Xz => Self::Xz(liblzma::bufread::XzDecoder::new_stream(packed, xz_codec()?)),
            Format::Zst => {
                let mut decoder = zstd::stream::read::Decoder::with_buffer(packed)?.single_frame();
                decoder.window_log_max(ZST_WINDOW_LOG_MOST)?;
                Self::Zst(decoder)
            }
            Format::Bz2 => Self::Bz2(bzip2::bufread::BzDecoder::new(packed)),
            Format::Lz4 => Self::Lz4(Box::new(lz4_flex::frame::FrameDecoder::new(packed))),
            Format::Zip => return Err(io::Error::other("the directory of a zip file lies at its end")),
        })
    }

    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Gz(decoder) => decoder.read(into),
            Self::Xz(decoder) => decoder.read(into),
            Self::Zst(decoder) => decoder.read(into),
            Self::Bz2(decoder) => decoder.read(into),
            Self::Lz4(decoder) => decoder.read(into),
        }
    }

    /// The packed bytes behind this part, which has given all it had.
    fn close(self) -> io::Result<Ahead<R>> {
        Ok(match self {
            Self::Gz(decoder) => decoder.into_inner(),
            Self::Xz(decoder) => decoder.into_inner(),
            Self::Zst(mut decoder) => {
                // It may have given its last byte before the frame's own end was read.
                decoder.finish_frame()?;
                decoder.finish()
            }
            Self::Bz2(decoder) => decoder.into_inner(),
            Self::Lz4(decoder) => {
                let packed = decoder.into_inner();
                // Its codec takes the end of the file for the end mark.
                if packed.was_asked_too_much {
                    return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "its end mark is missing"));
                }
                packed
            }
        })
    }
}

/// A codec that unpacks blocks of one stream side by side, where the file has several.
fn xz_codec() -> io::Result<liblzma::stream::Stream> {
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(XZ_THREADS_MOST);
    let mut builder = liblzma::stream::MtStreamBuilder::new();
    builder.threads(u32::try_from(threads).unwrap_or(1));
    // Blocks side by side need memory for each; with less, it goes on with one at a time.
    builder.memlimit_threading(XZ_THREADS_MEMORY_MOST).memlimit_stop(CODEC_MEMORY_MOST);
    Ok(builder.decoder()?)
}

/// What stands behind a part.
enum MemberState<R: Read> {
    /// Here a part begins, or the file ends.
    Between(Ahead<R>),
    Within(Box<Member<R>>),
    /// All of it was given, or a part of it was damaged.
    Over,
}

/// All that is inside a packed file, part after part.
pub(super) struct Members<R: Read> {
    format: Format,
    state: MemberState<R>,
    /// How many parts were begun, and how many bytes came out of all of them.
    begun: u64,
    bytes: u64,
}

impl<R: Read> Members<R> {
    /// Of what `packed` gives from its start on.
    ///
    /// # Errors
    /// For a zip, which is not read in order.
    pub(super) fn new(format: Format, packed: R) -> io::Result<Self> {
        if format == Format::Zip {
            return Err(io::Error::other("the directory of a zip file lies at its end"));
        }
        Ok(Self { format, state: MemberState::Between(Ahead::new(packed)), begun: 0, bytes: 0 })
    }

    /// The next part; `None` at the end of the file.
    fn next(&mut self, mut packed: Ahead<R>) -> io::Result<Option<Member<R>>> {
        let is_first = self.begun == 0;
        if !is_first {
            let zeros = packed.skip_zeros()?;
            let is_end = packed.peek(1)?.is_empty();
            let is_usual = match self.format {
                Format::Xz => zeros.is_multiple_of(4),
                // Tapes and blocks of a fixed size leave zeros behind, and nothing comes after them.
                Format::Gz | Format::Bz2 => zeros == 0 || is_end,
                Format::Zst | Format::Lz4 | Format::Zip => zeros == 0,
            };
            if !is_usual {
                return Err(left_over());
            }
            if is_end {
                return Ok(None);
            }
        }
        if self.format == Format::Lz4 {
            self.skip_frames(&mut packed)?;
        }
        let head = packed.peek(6)?;
        let magic = head.first_chunk().copied().unwrap_or_default();
        let is_skippable_zst = self.format == Format::Zst && is_skippable(magic);
        if self.format == Format::Lz4 && head.is_empty() && !is_first {
            return Ok(None);
        }
        if Format::by_magic(head) != Some(self.format) && !is_skippable_zst {
            return Err(if is_first { io::ErrorKind::InvalidData.into() } else { left_over() });
        }
        let head = packed.peek(needs::HEAD)?;
        needs::check(self.format, head).map_err(io::Error::other)?;
        self.count()?;
        Member::open(self.format, packed).map(Some)
    }

    /// One more part begins.
    fn count(&mut self) -> io::Result<()> {
        self.begun = self.begun.saturating_add(1);
        if self.begun > EMPTY_MOST.saturating_add(self.bytes / BYTES_EACH) {
            let text = format!("it is made of {} parts and more, with hardly anything in them", self.begun);
            return Err(io::Error::new(io::ErrorKind::InvalidData, text));
        }
        Ok(())
    }

    /// Passes over frames that are for others; their codec does not know them.
    fn skip_frames(&mut self, packed: &mut Ahead<R>) -> io::Result<()> {
        loop {
            let head = packed.peek(8)?;
            let magic = head.first_chunk::<4>().copied().unwrap_or_default();
            if magic == LZ4_MAGIC || !is_skippable(magic) {
                return Ok(());
            }
            let size = head.get(4..).and_then(|rest| rest.first_chunk()).copied().map(u32::from_le_bytes);
            let size = size.ok_or(io::ErrorKind::UnexpectedEof)?;
            self.count()?;
            packed.skip(u64::from(size).saturating_add(8))?;
        }
    }
}

fn left_over() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "behind its end there is something that belongs to nothing")
}

impl<R: Read> Read for Members<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if into.is_empty() {
            return Ok(0);
        }
        // A part that failed is not gone on with.
        loop {
            self.state = match std::mem::replace(&mut self.state, MemberState::Over) {
                MemberState::Over => return Ok(0),
                MemberState::Between(packed) => match self.next(packed)? {
                    Some(part) => MemberState::Within(Box::new(part)),
                    None => return Ok(0),
                },
                MemberState::Within(mut part) => match part.read(into) {
                    Ok(0) => MemberState::Between(part.close()?),
                    Ok(count) => {
                        self.bytes = self.bytes.saturating_add(count as u64);
                        self.state = MemberState::Within(part);
                        return Ok(count);
                    }
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {
                        self.state = MemberState::Within(part);
                        return Err(error);
                    }
                    Err(error) => return Err(error),
                },
            };
        }
    }
}
