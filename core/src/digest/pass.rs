//! One pass over the image, for all that want to see its bytes.

use std::sync::Arc;
use std::sync::mpsc::sync_channel;

use super::CheckError;
use crate::Cancel;
use crate::image::ReadAt;

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

struct Piece {
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
    std::thread::scope(|scope| {
        let mut queues = Vec::new();
        for mut taker in takers {
            let (sender, receiver) = sync_channel::<Arc<Piece>>(LAG);
            queues.push(sender);
            scope.spawn(move || {
                for piece in receiver {
                    taker.take(piece.bytes.get(..piece.filled).unwrap_or_default());
                }
            });
        }
        // A taker holds at most LAG pieces in its queue and one in its hands: the one before those is free again.
        let new = || Arc::new(Piece { bytes: vec![0; PIECE], filled: 0 });
        let mut pieces: std::collections::VecDeque<_> = (0..LAG.saturating_add(2)).map(|_| new()).collect();
        let mut at = 0u64;
        while at < image.size() {
            if cancel.is_set() {
                return Err(CheckError::Stopped);
            }
            let mut piece = pieces.pop_front().filter(|piece| Arc::strong_count(piece) == 1).unwrap_or_else(new);
            if let Some(piece) = Arc::get_mut(&mut piece) {
                let read = image.fill_at(at, &mut piece.bytes);
                piece.filled = read.map_err(|source| CheckError::Image { at, source })?;
            }
            if piece.filled == 0 {
                return Err(CheckError::Shrunk { at, bytes: image.size() });
            }
            at = at.saturating_add(piece.filled as u64);
            for queue in &queues {
                // A taker whose thread panicked is gone; the scope passes its panic on.
                let _ = queue.send(Arc::clone(&piece));
            }
            pieces.push_back(piece);
            progress(at);
        }
        Ok(())
    })
}
