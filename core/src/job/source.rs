//! Where the image's bytes come from: a file that stays, or a stream that passes by once.

use std::io::{self, Read};
use std::sync::Mutex;

use crate::bytes::{Cursor, ReadAt};
use crate::compose::Composition;
use crate::hash::{BlockDigests, Sum};
use crate::job::layout::block_range;
use crate::job::lock::lock;

/// How the bytes of an image can be had.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Access {
    /// From any place on, as often as needed.
    Anywhere,
    /// From any place on, but what is left out saves much: a line.
    Costly,
    /// From the start, once: a pipe.
    Once,
}

/// Where a job gets the image's bytes.
pub trait Source: Sync {
    /// Length in bytes; `None` where nobody knows it before the end.
    fn bytes(&self) -> Option<u64>;

    /// How they can be had.
    fn access(&self) -> Access;

    /// The bytes from `at` on, in their order.
    ///
    /// # Errors
    /// When they can't be had.
    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>>;

    /// The image at any place, where it stays: to tell what a drive should hold.
    fn kept(&self) -> Option<&dyn ReadAt>;

    /// Asked when all bytes were taken, and before any drive is sealed.
    ///
    /// # Errors
    /// In words, why these are not the bytes that were meant.
    fn prove(&self) -> Result<(), String>;

    /// Whether a block, by its number, stays as it is on the drive: it is neither written nor read back. The ends of a drive never do.
    fn is_hole(&self, _block: usize) -> bool {
        false
    }
}

/// What was composed, holes included.
pub struct ComposedImage<'a>(pub &'a Composition<'a>);

impl Source for ComposedImage<'_> {
    fn bytes(&self) -> Option<u64> {
        Some(self.0.size())
    }

    fn access(&self) -> Access {
        Access::Anywhere
    }

    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(Box::new(Cursor { of: self.0, at }))
    }

    fn kept(&self) -> Option<&dyn ReadAt> {
        Some(self.0)
    }

    fn prove(&self) -> Result<(), String> {
        Ok(())
    }

    fn is_hole(&self, block: usize) -> bool {
        self.0.is_hole(&block_range(block))
    }
}

/// An image that stays where it is.
pub struct KeptImage<'a>(pub &'a dyn ReadAt);

impl Source for KeptImage<'_> {
    fn bytes(&self) -> Option<u64> {
        Some(self.0.size())
    }

    fn access(&self) -> Access {
        Access::Anywhere
    }

    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(self.0.onward(at)?.unwrap_or_else(|| Box::new(Cursor { of: self.0, at })))
    }

    fn kept(&self) -> Option<&dyn ReadAt> {
        Some(self.0)
    }

    fn prove(&self) -> Result<(), String> {
        Ok(())
    }
}

/// Says in words why the bytes of a stream are not those that were meant.
pub type Prove<'a> = Box<dyn Fn() -> Result<(), String> + Sync + 'a>;

/// An image that passes by once.
pub struct StreamedImage<'a> {
    stream: Mutex<Option<Box<dyn Read + Send + 'a>>>,
    prove: Prove<'a>,
}

impl<'a> StreamedImage<'a> {
    /// What `stream` gives; `prove` is asked when it has ended.
    pub fn new(stream: Box<dyn Read + Send + 'a>, prove: Prove<'a>) -> Self {
        Self { stream: Mutex::new(Some(stream)), prove }
    }
}

impl Source for StreamedImage<'_> {
    fn bytes(&self) -> Option<u64> {
        None
    }

    fn access(&self) -> Access {
        Access::Once
    }

    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        let stream = lock(&self.stream).take();
        match stream.filter(|_| at == 0) {
            Some(stream) => Ok(stream),
            None => Err(io::Error::other("what came from a pipe can't be read again")),
        }
    }

    fn kept(&self) -> Option<&dyn ReadAt> {
        None
    }

    fn prove(&self) -> Result<(), String> {
        (self.prove)()
    }
}

/// What is known of an image because all of it was read before the job.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Checked {
    /// Its SHA-256.
    pub sha256: Option<String>,
    /// Digests of its blocks: then nothing needs to be computed on the way.
    pub blocks: Option<BlockDigests>,
    /// Published checksums that its own bytes must have, compared on the way.
    pub sums: Vec<Sum>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_came_from_a_pipe_comes_once_and_a_file_as_often_as_needed() {
        let bytes = b"an image".to_vec();
        let rest = |source: &dyn Source, at| {
            let mut read = String::new();
            source
                .open(at)
                .and_then(|mut stream| stream.read_to_string(&mut read))
                .map(|_| read)
                .map_err(|error| error.to_string())
        };
        let file = KeptImage(&bytes);
        assert_eq!(
            [rest(&file, 0), rest(&file, 3), rest(&file, 99)],
            ["an image", "image", ""].map(|text| Ok(text.to_owned()))
        );
        assert!(file.kept().is_some() && file.prove().is_ok());
        let pipe = StreamedImage::new(Box::new(&bytes[..]), Box::new(|| Err("another checksum".to_owned())));
        assert_eq!(rest(&pipe, 0), Ok("an image".to_owned()));
        assert_eq!(rest(&pipe, 0), Err("what came from a pipe can't be read again".to_owned()));
        assert_eq!(
            (pipe.bytes(), pipe.access(), pipe.prove()),
            (None, Access::Once, Err("another checksum".to_owned()))
        );
    }
}
