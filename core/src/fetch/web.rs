//! Asking servers: one request at a time, redirects followed by hand so that each step is judged.

use std::io::{self, Read};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use ureq::http::{HeaderMap, Response, StatusCode, header};
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use ureq::{Agent, Body};
use url::{Host, Url};

use crate::fetch::address::address;
use crate::fetch::fault::MirrorFault;
use crate::machine::clock;
use crate::stop::Cancel;

/// Most redirects that are followed for one request.
const REDIRECTS_MOST: usize = 8;
/// Longest time for one whole body; silence ends it long before.
const BODY_LONGEST: Duration = Duration::from_secs(24 * 3600);
/// Longest time for a list, a signature or the like.
const FILE_LONGEST: Duration = Duration::from_secs(30);
/// How often somebody who waits looks whether to stop.
const LOOK: Duration = Duration::from_millis(50);
/// Buffer between the socket and the reader, in bytes.
const BUFFER: usize = 256 << 10;

/// How far the network may be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// Anywhere.
    Everywhere,
    /// Servers on this machine alone: with the rights of root, nothing further is talked to.
    ThisMachine,
}

/// A client for HTTP and HTTPS.
#[derive(Clone)]
pub struct Web {
    plain: Agent,
    /// Made when it is needed: reading the system's certificates takes a moment.
    secure: Arc<OnceLock<Agent>>,
    reach: Reach,
    wait: Duration,
}

/// A part of a file, asked for with `Range` (RFC 9110, §14.2).
#[derive(Clone, Debug, Default)]
pub(super) struct ByteRange {
    /// First byte; 0 without an end asks for all of it.
    pub start: u64,
    /// The byte behind the last; `None` for everything from `start` on.
    pub end: Option<u64>,
    /// A strong `ETag`, or a `Last-Modified`: for another version the server sends all of it (RFC 9110, §13.1.5).
    pub only_if: Option<String>,
}

/// What a server answered.
pub(super) struct Answer {
    /// First byte that the body holds.
    pub start: u64,
    /// Length of the whole file, if the server tells it.
    pub total: Option<u64>,
    /// What tells this version of the file from others.
    pub validator: Option<String>,
    body: ureq::BodyReader<'static>,
}

impl Read for Answer {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        self.body.read(into)
    }
}

fn is_this_machine(url: &Url) -> bool {
    match url.host() {
        Some(Host::Ipv4(number)) => number.is_loopback(),
        Some(Host::Ipv6(number)) => number.is_loopback(),
        Some(Host::Domain(_)) | None => false,
    }
}

/// The certificates that are believed: the system's own, so that those of a workplace count; a bare machine has none, and
/// ours do.
fn tls() -> TlsConfig {
    let own = rustls_native_certs::load_native_certs().certs;
    let roots = if own.is_empty() {
        RootCerts::WebPki
    } else {
        let owned = own.iter().map(|one| Certificate::from_der(one).to_owned());
        RootCerts::Specific(Arc::new(owned.collect()))
    };
    TlsConfig::builder().root_certs(roots).build()
}

fn agent(reach: Reach, wait: Duration, tls: TlsConfig) -> Agent {
    let config = Agent::config_builder()
        .http_status_as_error(false)
        .max_redirects(0)
        .max_redirects_will_error(false)
        .timeout_resolve(Some(wait))
        .timeout_connect(Some(wait))
        .timeout_recv_response(Some(wait))
        .timeout_per_read(Some(wait))
        .timeout_recv_body(Some(BODY_LONGEST))
        .input_buffer_size(BUFFER)
        .accept_encoding("identity")
        .user_agent(concat!("pyrotyp/", env!("CARGO_PKG_VERSION")))
        .tls_config(tls);
    // A proxy for what lies on this machine is nobody's wish, and root talks to nothing else.
    let config = if reach == Reach::ThisMachine { config.proxy(None) } else { config };
    config.build().into()
}

impl Web {
    /// A client that gives a server up after `wait` without a byte.
    pub fn new(reach: Reach, wait: Duration) -> Self {
        let plain = agent(reach, wait, TlsConfig::default());
        Self { plain, secure: Arc::default(), reach, wait }
    }

    /// How long a server may stay silent.
    pub fn wait(&self) -> Duration {
        self.wait
    }

    /// Asks for a file or a part of it.
    pub(super) fn get(&self, text: &str, part: &ByteRange) -> Result<Answer, MirrorFault> {
        let mut url = address(text)?;
        for _ in 0..=REDIRECTS_MOST {
            let response = self.ask(&url, part)?;
            let status = response.status();
            let to = response.headers().get(header::LOCATION).and_then(|to| to.to_str().ok());
            let Some(to) = to.filter(|_| status.is_redirection()) else { return answer(response, part) };
            let next = url.join(to).map_err(|_| MirrorFault::Address { text: to.to_owned() })?;
            if url.scheme() == "https" && next.scheme() != "https" {
                return Err(MirrorFault::Downgrade { to: next.to_string() });
            }
            url = address(next.as_str())?;
        }
        Err(MirrorFault::Redirects)
    }

    fn ask(&self, url: &Url, part: &ByteRange) -> Result<Response<Body>, MirrorFault> {
        if self.reach == Reach::ThisMachine && !is_this_machine(url) {
            return Err(MirrorFault::Rights);
        }
        let agent = match url.scheme() {
            "https" => self.secure.get_or_init(|| agent(self.reach, self.wait, tls())),
            _ => &self.plain,
        };
        let mut request = agent.get(url.as_str());
        if part.start > 0 || part.end.is_some() {
            let last = part.end.map(|end| end.saturating_sub(1).to_string()).unwrap_or_default();
            request = request.header(header::RANGE, format!("bytes={}-{last}", part.start));
            if let Some(validator) = &part.only_if {
                request = request.header(header::IF_RANGE, validator);
            }
        }
        request.call().map_err(fault)
    }

    /// A file of at most `most` bytes, whole; `None` if the server says that it has none of that name. It takes no longer than
    /// thirty seconds, whatever comes, and ends at once when `cancel` says stop.
    ///
    /// # Errors
    /// When the server can't be reached, is refused, or sends more.
    pub fn file(&self, text: &str, most: u64, cancel: &Cancel) -> Result<Option<Vec<u8>>, MirrorFault> {
        let (sender, receiver) = channel();
        let (web, address) = (self.clone(), text.to_owned());
        let asking = std::thread::Builder::new().name("ask".to_owned()).spawn(move || {
            // Nobody waits any more for what comes too late.
            let _ = sender.send(web.file_now(&address, most));
        });
        asking.map_err(|error| MirrorFault::Unreachable { why: crate::text::plain(&error) })?;
        let begun = Instant::now();
        loop {
            match receiver.recv_timeout(LOOK) {
                Ok(answer) => return answer,
                Err(RecvTimeoutError::Disconnected) => return Err(MirrorFault::Nonsense),
                Err(RecvTimeoutError::Timeout) if cancel.is_set() => return Err(MirrorFault::Stopped),
                Err(RecvTimeoutError::Timeout) if begun.elapsed() > FILE_LONGEST => return Err(MirrorFault::Slow),
                Err(RecvTimeoutError::Timeout) => {}
            }
        }
    }

    fn file_now(&self, text: &str, most: u64) -> Result<Option<Vec<u8>>, MirrorFault> {
        let answer = match self.get(text, &ByteRange::default()) {
            Err(MirrorFault::Status { code: 404 | 410, .. }) => return Ok(None),
            other => other?,
        };
        let mut bytes = Vec::new();
        answer.take(most.saturating_add(1)).read_to_end(&mut bytes).map_err(|error| of_io(&error))?;
        if bytes.len() as u64 > most { Err(MirrorFault::TooLong { limit: most }) } else { Ok(Some(bytes)) }
    }
}

/// The status and the headers, judged.
fn answer(response: Response<Body>, part: &ByteRange) -> Result<Answer, MirrorFault> {
    let headers = response.headers();
    let length = headers.get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
    let (start, total) = match response.status() {
        StatusCode::OK => (0, length),
        StatusCode::PARTIAL_CONTENT => {
            let range = headers.get(header::CONTENT_RANGE).and_then(|range| range.to_str().ok());
            let (start, total) = range.and_then(content_range).ok_or(MirrorFault::Nonsense)?;
            if start != part.start {
                return Err(MirrorFault::Nonsense);
            }
            (start, total)
        }
        // It ends before the part that is asked for.
        StatusCode::RANGE_NOT_SATISFIABLE => return Err(MirrorFault::Changed),
        code => {
            let after = headers.get(header::RETRY_AFTER).and_then(|after| after.to_str().ok()?.parse().ok());
            return Err(MirrorFault::Status { code: code.as_u16(), after });
        }
    };
    let validator = validator(headers);
    Ok(Answer { start, total, validator, body: response.into_body().into_reader() })
}

/// `bytes 0-99/1234` (RFC 9110, §14.4): the first byte, and the whole length unless it is `*`.
fn content_range(text: &str) -> Option<(u64, Option<u64>)> {
    let (range, total) = text.strip_prefix("bytes ")?.split_once('/')?;
    let start = range.split_once('-')?.0.trim().parse().ok()?;
    Some((start, if total == "*" { None } else { Some(total.trim().parse().ok()?) }))
}

/// What may stand in `If-Range`: a strong entity tag, or else the time of the last change.
fn validator(headers: &HeaderMap) -> Option<String> {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok()).map(str::to_owned);
    text(header::ETAG).filter(|tag| tag.starts_with('"')).or_else(|| text(header::LAST_MODIFIED))
}

/// What went wrong before the body.
fn fault(error: ureq::Error) -> MirrorFault {
    match error {
        ureq::Error::Timeout(_) | ureq::Error::BodyStalled => MirrorFault::Silent,
        ureq::Error::Tls(why) => MirrorFault::Certificate { why: why.to_owned() },
        ureq::Error::Rustls(why) => of_certificate(&why),
        ureq::Error::Io(error) => of_io(&error),
        ureq::Error::Protocol(_) | ureq::Error::Http(_) | ureq::Error::LargeResponseHeader(..) => MirrorFault::Nonsense,
        other => MirrorFault::Unreachable { why: other.to_string() },
    }
}

/// What the system says of a connection that never was.
const NEVER_THERE: [io::ErrorKind; 4] = [
    io::ErrorKind::ConnectionRefused,
    io::ErrorKind::HostUnreachable,
    io::ErrorKind::NetworkUnreachable,
    io::ErrorKind::AddrNotAvailable,
];

/// Why a server's certificate was not taken; where its days are the reason, this PC's clock may be to blame.
fn of_certificate(why: &rustls::Error) -> MirrorFault {
    use rustls::CertificateError::{Expired, ExpiredContext, NotValidYet, NotValidYetContext};
    let days = match why {
        rustls::Error::InvalidCertificate(Expired | ExpiredContext { .. }) => "its days are over",
        rustls::Error::InvalidCertificate(NotValidYet | NotValidYetContext { .. }) => "its days have not begun",
        other => return MirrorFault::Certificate { why: other.to_string() },
    };
    MirrorFault::Certificate { why: format!("{days}; {}", clock::question(Timestamp::now())) }
}

/// What went wrong in the body, or with the connection.
pub(super) fn of_io(error: &io::Error) -> MirrorFault {
    let inner = error.get_ref();
    if let Some(why) = inner.and_then(|inner| inner.downcast_ref::<rustls::Error>()) {
        return of_certificate(why);
    }
    match inner.and_then(|inner| inner.downcast_ref::<ureq::Error>()) {
        Some(ureq::Error::Timeout(_) | ureq::Error::BodyStalled) => MirrorFault::Silent,
        Some(ureq::Error::Rustls(why)) => of_certificate(why),
        _ if error.kind() == io::ErrorKind::TimedOut => MirrorFault::Silent,
        _ if NEVER_THERE.contains(&error.kind()) => MirrorFault::Unreachable { why: crate::text::plain(error) },
        _ => MirrorFault::BrokeOff { why: crate::text::plain(error) },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_and_addresses_are_read_or_refused() {
        assert_eq!(content_range("bytes 5-9/10"), Some((5, Some(10))));
        assert_eq!(content_range("bytes 0-9/*"), Some((0, None)));
        for wrong in ["", "bytes */10", "bytes 5/10", "items 0-1/2", "bytes 0-1/x"] {
            assert_eq!(content_range(wrong), None, "{wrong}");
        }
        let here = |text| is_this_machine(&address(text).unwrap());
        assert!(here("http://127.0.0.1:80/x") && here("http://[::1]/x"));
        // A name may lead anywhere.
        assert!(
            !here("http://localhost/x") && !here("https://larkspur.example/x") && !here("http://127.0.0.1.example/")
        );
        assert!(address("file:///etc/passwd").is_err() && address("larkspur.iso").is_err());
    }
}
