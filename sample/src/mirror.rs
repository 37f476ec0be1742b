//! A stand-in for the network: a server on this machine that hands out a folder's files, well or badly.
//!
//! The first part of a path says how: `/steady/larkspur.iso`, `/breaks-5000/larkspur.iso`. Source: RFC 9110 and RFC 9112.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Sent at once, in bytes.
const CHUNK: usize = 256 << 10;
/// Longest head of a request, in bytes.
const HEAD_MOST: u64 = 16 << 10;

/// How a file is handed out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Manner {
    /// As it should be.
    Steady,
    /// So many bytes a second.
    Slow(u64),
    /// The connection ends after so many bytes of each answer.
    Breaks(u64),
    /// One wrong bit at this byte.
    Wrong(u64),
    /// Says that the file is longer than it is.
    Longer,
    /// Without parts, lengths and versions.
    Plain,
    /// Other bytes, under another version, from the second request on.
    Changed,
    /// A web page, with status 200.
    Page,
    /// The file again and again, without an end.
    Endless,
    /// Not a word.
    Silent,
    /// Too many are asking, at the first request.
    Busy,
    /// Not there.
    Gone,
    /// Everything but images is answered with this status.
    Refuses(u64),
    /// Without parts, and the connection ends after so many bytes.
    Brittle(u64),
    /// One byte now and then.
    Crawls,
    /// To the address that follows.
    Leads,
}

impl Manner {
    fn named(name: &str) -> Option<Self> {
        let (word, number) = name.split_once('-').unwrap_or((name, "0"));
        let number = number.parse().ok()?;
        Some(match word {
            "steady" => Self::Steady,
            "slow" => Self::Slow(number),
            "breaks" => Self::Breaks(number),
            "wrong" => Self::Wrong(number),
            "longer" => Self::Longer,
            "plain" => Self::Plain,
            "changed" => Self::Changed,
            "page" => Self::Page,
            "endless" => Self::Endless,
            "silent" => Self::Silent,
            "busy" => Self::Busy,
            "gone" => Self::Gone,
            "refuses" => Self::Refuses(number),
            "brittle" => Self::Brittle(number),
            "crawls" => Self::Crawls,
            "leads" => Self::Leads,
            _ => return None,
        })
    }
}

/// One request, as it came in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// Path, with the manner.
    pub path: String,
    /// The header `Range`.
    pub range: Option<String>,
}

/// A folder's files, and what was asked for so far.
#[derive(Clone)]
pub struct Mirror {
    folder: PathBuf,
    asked: Arc<Mutex<Vec<Asked>>>,
}

impl Mirror {
    /// Hands out the files of `folder`.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.to_owned(), asked: Arc::default() }
    }

    /// Answers on a free port of this machine until the program ends, and tells where.
    ///
    /// # Errors
    /// When no port can be had.
    pub fn start(&self) -> io::Result<SocketAddr> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let address = listener.local_addr()?;
        let mirror = self.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let mirror = mirror.clone();
                // Short answers would wait for those before to be acknowledged.
                let _ = stream.set_nodelay(true);
                // Whoever goes away in the middle is no fault of the server's.
                std::thread::spawn(move || drop(mirror.serve(stream)));
            }
        });
        Ok(address)
    }

    /// What was asked for so far.
    pub fn asked(&self) -> Vec<Asked> {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Answers the requests of one connection.
    ///
    /// # Errors
    /// When the other side goes away.
    pub fn serve(&self, stream: impl Read + Write) -> io::Result<()> {
        let mut stream = BufReader::new(stream);
        while let Some(request) = read_request(&mut stream)? {
            if !self.answer(&request, stream.get_mut())? {
                break;
            }
        }
        Ok(())
    }

    /// Answers one request; tells whether another may follow.
    fn answer(&self, request: &Request, out: &mut impl Write) -> io::Result<bool> {
        let earlier = {
            let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
            asked.push(Asked { path: request.path.clone(), range: request.range.clone() });
            asked.iter().filter(|asked| asked.path == request.path).count() - 1
        };
        let (manner, rest) = request.path.trim_start_matches('/').split_once('/').unwrap_or_default();
        let manner = Manner::named(manner);
        match manner {
            Some(Manner::Page) => {
                return put(out, "200 OK", "Content-Type: text/html\r\n", b"<!doctype html><title>Sign in</title>");
            }
            Some(Manner::Refuses(code)) if !rest.ends_with(".iso") => return put(out, &format!("{code} No"), "", b""),
            Some(Manner::Busy) if earlier == 0 => return put(out, "503 Busy", "Retry-After: 0\r\n", b""),
            Some(Manner::Leads) => return put(out, "302 Found", &format!("Location: {rest}\r\n"), b""),
            Some(Manner::Silent) => {
                std::thread::sleep(Duration::from_secs(60));
                return Ok(false);
            }
            _ => {}
        }
        let is_inside = !rest.split('/').any(|part| part == "..");
        let path = self.folder.join(rest);
        let file = manner.filter(|manner| is_inside && path.is_file() && *manner != Manner::Gone);
        let Some((manner, mut file)) = file.zip(File::open(&path).ok()) else {
            return put(out, "404 Not Found", "", b"");
        };
        let bytes = file.metadata()?.len();
        let is_other = manner == Manner::Changed && earlier > 0;
        let tag = format!("\"{bytes:x}-{}\"", u8::from(is_other));
        let has_parts = !matches!(manner, Manner::Plain | Manner::Endless | Manner::Brittle(_));
        let fits = request.if_range.as_ref().is_none_or(|asked| *asked == tag);
        let range = request.range.as_deref().and_then(range).filter(|_| has_parts && fits);
        let (start, end) =
            range.map_or((0, bytes), |(start, last)| (start, last.map_or(bytes, |last| (last + 1).min(bytes))));
        if start >= end && bytes > 0 {
            return put(out, "416 Range Not Satisfiable", &format!("Content-Range: bytes */{bytes}\r\n"), b"");
        }
        let told = if manner == Manner::Longer { bytes + 1000 } else { bytes };
        let status = if range.is_some() { "206 Partial Content" } else { "200 OK" };
        let mut head = format!("HTTP/1.1 {status}\r\n");
        if has_parts {
            head += &format!("ETag: {tag}\r\nAccept-Ranges: bytes\r\n");
            head += &format!("Content-Length: {}\r\n", end - start + (told - bytes));
        } else {
            head += "Connection: close\r\n";
            if let Manner::Brittle(_) = manner {
                head += &format!("Content-Length: {bytes}\r\n");
            }
        }
        if range.is_some() {
            head += &format!("Content-Range: bytes {start}-{}/{told}\r\n", end - 1);
        }
        out.write_all(format!("{head}\r\n").as_bytes())?;
        let mut chunk = vec![0u8; CHUNK];
        let mut at = start;
        file.seek(SeekFrom::Start(start))?;
        while at < end {
            let mut room = (end - at).min(CHUNK as u64);
            match manner {
                Manner::Slow(rate) => {
                    room = room.min((rate / 10).max(1));
                    std::thread::sleep(Duration::from_millis(100));
                }
                Manner::Crawls => {
                    room = 1;
                    std::thread::sleep(Duration::from_millis(500));
                }
                Manner::Breaks(after) | Manner::Brittle(after) => room = room.min((start + after).saturating_sub(at)),
                _ => {}
            }
            let piece = &mut chunk[..usize::try_from(room).unwrap_or(CHUNK)];
            if piece.is_empty() {
                return Ok(false);
            }
            file.read_exact(piece)?;
            if let Manner::Wrong(place) = manner
                && let Some(byte) = place.checked_sub(at).and_then(|place| piece.get_mut(usize::try_from(place).ok()?))
            {
                *byte ^= 1;
            }
            if is_other {
                piece.iter_mut().for_each(|byte| *byte = byte.wrapping_add(1));
            }
            out.write_all(piece)?;
            at += room;
            if manner == Manner::Endless && at == end {
                at = start;
                file.seek(SeekFrom::Start(start))?;
            }
        }
        out.flush()?;
        Ok(has_parts && manner != Manner::Longer)
    }
}

/// A short answer.
fn put(out: &mut impl Write, status: &str, headers: &str, body: &[u8]) -> io::Result<bool> {
    let mut answer = format!("HTTP/1.1 {status}\r\n{headers}Content-Length: {}\r\n\r\n", body.len()).into_bytes();
    answer.extend_from_slice(body);
    out.write_all(&answer)?;
    out.flush()?;
    Ok(true)
}

struct Request {
    path: String,
    range: Option<String>,
    if_range: Option<String>,
}

/// The next request of a connection; `None` at its end, or when it makes no sense.
fn read_request(stream: &mut impl BufRead) -> io::Result<Option<Request>> {
    let mut head = Vec::new();
    let mut limited = stream.take(HEAD_MOST);
    while !head.ends_with(b"\r\n\r\n") {
        if limited.read_until(b'\n', &mut head)? == 0 {
            return Ok(None);
        }
    }
    let mut headers = [httparse::EMPTY_HEADER; 64];
    let mut request = httparse::Request::new(&mut headers);
    if request.parse(&head).is_err() || request.method != Some("GET") {
        return Ok(None);
    }
    let header = |name: &str| {
        let found = request.headers.iter().find(|header| header.name.eq_ignore_ascii_case(name));
        found.map(|header| String::from_utf8_lossy(header.value).into_owned())
    };
    let path = request.path.unwrap_or_default();
    let path = path.split('?').next().unwrap_or_default().replace("%20", " ");
    Ok(Some(Request { path, range: header("range"), if_range: header("if-range") }))
}

/// `bytes=5-9` or `bytes=5-`.
fn range(text: &str) -> Option<(u64, Option<u64>)> {
    let (start, last) = text.strip_prefix("bytes=")?.split_once('-')?;
    Some((start.parse().ok()?, if last.is_empty() { None } else { Some(last.parse().ok()?) }))
}
