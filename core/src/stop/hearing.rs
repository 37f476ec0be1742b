//! Reading that hears a stop: what comes from a pipe or a line may not come for a long time.

use std::io::{self, Read};
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::Duration;

use crate::stop::Cancel;

/// Read at once, in bytes, and how many such pieces may lie ready.
const PIECE: usize = 256 << 10;
const READY_MOST: usize = 4;
/// How often it is looked whether to stop.
const LOOK: Duration = Duration::from_millis(50);

/// What somebody else gives, until told to stop.
pub struct Hearing {
    pieces: Receiver<io::Result<Vec<u8>>>,
    piece: Vec<u8>,
    taken: usize,
    cancel: Cancel,
}

impl Hearing {
    /// Of `inner`, which another thread waits for: nobody can wake it, and when nobody listens any more it ends with what
    /// comes next.
    ///
    /// # Errors
    /// When the thread can't be started.
    pub fn new(mut inner: impl Read + Send + 'static, cancel: &Cancel) -> io::Result<Self> {
        let (sender, pieces) = sync_channel(READY_MOST);
        std::thread::Builder::new().name("hear".to_owned()).spawn(move || {
            loop {
                let mut piece = vec![0; PIECE];
                let read = match inner.read(&mut piece) {
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                    read => read,
                };
                let is_over = !matches!(read, Ok(1..));
                let sent = sender.send(read.map(|count| {
                    piece.truncate(count);
                    piece
                }));
                if is_over || sent.is_err() {
                    break;
                }
            }
        })?;
        Ok(Self { pieces, piece: Vec::new(), taken: 0, cancel: cancel.clone() })
    }
}

impl Read for Hearing {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        while self.taken >= self.piece.len() {
            match self.pieces.recv_timeout(LOOK) {
                Ok(piece) => (self.piece, self.taken) = (piece?, 0),
                Err(RecvTimeoutError::Disconnected) => return Ok(0),
                Err(RecvTimeoutError::Timeout) if self.cancel.is_set() => return Err(io::Error::other("stopped")),
                Err(RecvTimeoutError::Timeout) => continue,
            }
            if self.piece.is_empty() {
                return Ok(0);
            }
        }
        let count = self.piece.get(self.taken..).unwrap_or_default().read(into)?;
        self.taken = self.taken.saturating_add(count);
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives two bytes, and then is silent for ever.
    struct Silent(usize);

    impl Read for Silent {
        fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
            self.0 += 1;
            match self.0 {
                1 => (&b"ab"[..]).read(into),
                _ => loop {
                    std::thread::park();
                },
            }
        }
    }

    #[test]
    fn all_of_it_comes_and_a_stop_is_heard_while_nothing_does() {
        let bytes: Vec<u8> = (0..3_000_000u32).map(|n| n as u8).collect();
        let mut read = Vec::new();
        Hearing::new(io::Cursor::new(bytes.clone()), &Cancel::new()).unwrap().read_to_end(&mut read).unwrap();
        assert!(read == bytes);
        let cancel = Cancel::new();
        let mut hearing = Hearing::new(Silent(0), &cancel).unwrap();
        assert_eq!(hearing.read(&mut [0; 9]).unwrap(), 2);
        std::thread::scope(|scope| {
            scope.spawn(|| {
                std::thread::sleep(Duration::from_millis(20));
                cancel.set();
            });
            assert_eq!(hearing.read(&mut [0; 9]).unwrap_err().to_string(), "stopped");
        });
    }
}
