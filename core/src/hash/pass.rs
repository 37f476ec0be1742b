//! One pass over the image, for all that want to see its bytes.

use std::sync::Arc;
use std::sync::mpsc::sync_channel;

use crate::bytes::ReadAt;
use crate::published::CheckError;
use crate::stop::Cancel;

/// Read in pieces of this many bytes: small enough to be still in a processor's cache for the second taker.
const PIECE: usize = 512 << 10;
/// How many pieces a taker may lag behind the reader.
const LAG: usize = 30;

/// Something that sees all bytes of an image once, in their order.
pub trait Taker: Send {
    /// Takes in the next bytes.
    fn take(&mut self, bytes: &[u8]);
}

impl<T: Taker> Taker for &mut T {
    fn take(&mut self, bytes: &[u8]) {
        T::take(self, bytes);
    }
}

struct Chunk {
    bytes: Vec<u8>,
    filled: usize,
}

/// Reads the image once and shows every byte to each taker, on a thread of its own.
///
/// Memory is bounded by the pieces under way, about 16 MiB. `progress` hears the bytes done.
///
/// # Errors
/// When the image can't be read, shrinks meanwhile, or `cancel` says stop.
pub fn pass<'a>(
    image: &dyn ReadAt,
    takers: impl IntoIterator<Item = Box<dyn Taker + 'a>>,
    cancel: &Cancel,
    progress: &mut dyn FnMut(u64),
) -> Result<(), CheckError> {
    let mut at = 0u64;
    show(takers, &mut |into| {
        progress(at);
        if at >= image.size() {
            return Ok(0);
        }
        if cancel.is_set() {
            return Err(CheckError::Stopped);
        }
        let filled = image.fill_at(at, into).map_err(|source| CheckError::Image { at, source })?;
        if filled == 0 {
            return Err(CheckError::Shrunk { at, bytes: image.size() });
        }
        at = at.saturating_add(filled as u64);
        Ok(filled)
    })
}

/// Shows what `next` gives to each taker, on a thread of its own, until it gives nothing more.
///
/// Memory is bounded as in [`pass`].
///
/// # Errors
/// What `next` fails with.
pub fn show<'a, E>(
    takers: impl IntoIterator<Item = Box<dyn Taker + 'a>>,
    next: &mut dyn FnMut(&mut [u8]) -> Result<usize, E>,
) -> Result<(), E> {
    std::thread::scope(|scope| {
        let mut queues = Vec::new();
        for mut taker in takers {
            let (sender, receiver) = sync_channel::<Arc<Chunk>>(LAG);
            queues.push(sender);
            scope.spawn(move || {
                for piece in receiver {
                    taker.take(piece.bytes.get(..piece.filled).unwrap_or_default());
                }
            });
        }
        // A taker holds at most LAG pieces in its queue and one in its hands: the one before those is free again.
        let new = || Arc::new(Chunk { bytes: vec![0; PIECE], filled: 0 });
        let mut pieces: std::collections::VecDeque<_> = (0..LAG.saturating_add(2)).map(|_| new()).collect();
        loop {
            let mut piece = pieces.pop_front().filter(|piece| Arc::strong_count(piece) == 1).unwrap_or_else(new);
            if let Some(piece) = Arc::get_mut(&mut piece) {
                piece.filled = next(&mut piece.bytes)?;
            }
            if piece.filled == 0 {
                return Ok(());
            }
            for queue in &queues {
                // A taker whose thread panicked is gone; the scope passes its panic on.
                let _ = queue.send(Arc::clone(&piece));
            }
            pieces.push_back(piece);
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io;

    /// What one taker saw.
    #[derive(Default)]
    struct Seen(Vec<u8>);

    impl Taker for Seen {
        fn take(&mut self, bytes: &[u8]) {
            self.0.extend_from_slice(bytes);
        }
    }

    /// An image that says it has `bytes` bytes and then ends, or fails, at `end`.
    struct Odd {
        bytes: u64,
        end: u64,
        fails: bool,
    }

    impl ReadAt for Odd {
        fn size(&self) -> u64 {
            self.bytes
        }

        fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
            match self.end.saturating_sub(at) {
                0 if self.fails => Err(io::Error::other("a bad sector")),
                // Never more than a little at once, as a pipe would give it.
                left => Ok(usize::try_from(left).unwrap().min(into.len()).min(70_001)),
            }
        }
    }

    fn run(image: &dyn ReadAt, cancel: &Cancel, told: &mut Vec<u64>) -> (Result<(), CheckError>, [Seen; 3]) {
        let mut seen = [Seen::default(), Seen::default(), Seen::default()];
        let takers = seen.iter_mut().map(|seen| Box::new(seen) as Box<dyn Taker>);
        let result = pass(image, takers, cancel, &mut |at| {
            told.push(at);
            if at > 40 << 20 {
                cancel.set();
            }
        });
        (result, seen)
    }

    #[test]
    fn every_taker_sees_every_byte_once_and_in_order() {
        // More pieces than may be under way, the last one not full.
        let image = pyrotyp_sample::noise(PIECE * (LAG + 5) + 123, 9);
        let mut told = Vec::new();
        let (result, seen) = run(&image, &Cancel::new(), &mut told);
        result.unwrap();
        assert!(seen.iter().all(|seen| seen.0 == image));
        assert!(told.is_sorted() && told.last() == Some(&(image.len() as u64)));
    }

    #[test]
    fn an_image_that_shrinks_fails_or_is_given_up_ends_the_pass_with_its_place() {
        let run = |bytes, end, fails| {
            let (result, seen) = run(&Odd { bytes, end, fails }, &Cancel::new(), &mut Vec::new());
            assert!(seen.iter().all(|one| one.0.len() == seen[0].0.len()), "no taker is ahead of the others");
            result
        };
        assert!(matches!(run(9 << 20, 3 << 20, false), Err(CheckError::Shrunk { at: 3_145_728, bytes: 9_437_184 })));
        assert!(matches!(run(9 << 20, 3 << 20, true), Err(CheckError::Image { at: 3_145_728, .. })));
        assert!(matches!(run(90 << 20, 90 << 20, false), Err(CheckError::Stopped)));
        assert!(run(0, 0, false).is_ok(), "nothing to read is no fault");
    }
}
