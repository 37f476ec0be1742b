//! `pyrotyp fetch --straight-to`: an image goes from the line to the drive, without a file between.
//!
//! What talks to the network is to have nothing of the drive. So the line is a process of its own, this
//! very program once more, which gives the image through a pipe.

use std::io::{self, BufRead, BufReader, Cursor, Read};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Mutex, PoisonError};
use std::thread::JoinHandle;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::hash::Sum;
use pyrotyp_core::image;
use pyrotyp_core::job::{Access, Checked, Source};
use pyrotyp_core::published::{Expected, Report};
use pyrotyp_core::stop::{Cancel, Hearing};
use serde::{Deserialize, Serialize};

use super::confirming::{Confirming, ImageFrom};
use super::stream::{self, Passing, START_BYTES};
use crate::asked::Fetch;
use crate::exit::{Exit, Failure, plain};
use crate::out::{Spoken, say};
use crate::session::Session;
use crate::session::attached::{ARRIVING, choose_drive, platform};

/// Longest description that is read, in bytes.
const ABOUT_BYTES_MOST: u64 = 1 << 20;

/// What the line tells of the image before it gives it.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct About {
    address: String,
    bytes: Option<u64>,
    /// Published checksums, `algorithm:hex`, and who says so.
    sums: Vec<(String, String)>,
    /// Who has signed the list, by a key that is known here.
    signed_by: Option<String>,
}

impl About {
    /// Of an image at this address.
    pub(crate) fn new(address: &str, bytes: Option<u64>, expected: &[Expected], report: &Report) -> Self {
        let sum = |one: &Expected| (format!("{}:{}", one.sum.algorithm.name(), one.sum.hex), name_of(&one.source));
        let signer =
            report.signatures.iter().find(|vouched| vouched.is_good()).and_then(|vouched| vouched.key.as_ref());
        Self {
            address: address.to_owned(),
            bytes,
            sums: expected.iter().filter(|one| one.is_told).map(sum).collect(),
            signed_by: signer.map(crate::show::checked::name_of),
        }
    }

    fn sums(&self) -> Vec<Sum> {
        self.sums.iter().filter_map(|(sum, _)| sum.parse().ok()).collect()
    }

    /// What the image will be compared with, in words.
    fn expects(&self) -> String {
        let words = self.sums.iter().map(|(sum, source)| {
            let algorithm = sum.parse::<Sum>().map(|sum| sum.algorithm.to_string()).unwrap_or_default();
            format!("{algorithm} from {source}")
        });
        let signed = self.signed_by.as_ref().map_or(String::new(), |owner| format!(", signed by {owner}"));
        format!("compared on the way with {}{signed}", words.collect::<Vec<_>>().join(", "))
    }
}

/// The last part of a path: where the list lay for a moment is nobody's concern.
fn name_of(source: &str) -> String {
    source.rsplit('/').next().unwrap_or(source).to_owned()
}

/// Writes what is fetched straight to a drive.
pub(crate) fn straight_to(asked: &Fetch, to: &str, session: &Session<'_>) -> Result<Exit, Failure> {
    // A drive that is not there is told before anything is asked of the network.
    if to != ARRIVING {
        choose_drive(&*platform(session.common)?, to, session.cancel, &|text| say(session.common, text))?;
    }
    let confirming = Confirming::find(&asked.job, ImageFrom::Elsewhere)?;
    let (voice, heard) = channel();
    let caller = Caller { asked, session, voice };
    let (about, mut first) = caller.call(0)?;
    if about.sums.is_empty() {
        let text = format!("{} has no published checksum, and without one it is not sealed", about.address);
        return Err(Failure::new(Exit::Checksum, text, "give one with --sum, or fetch it to a file first"));
    }
    let mut start = Vec::new();
    let read = (&mut first).take(START_BYTES).read_to_end(&mut start);
    read.map_err(|error| first.failure(&error))?;
    let beginning = image::begin(&start, about.bytes)
        .map_err(|error| Failure::new(Exit::Unexpected, plain(&error), "report this: it should not happen"))?;
    let (sums, expects) = (about.sums(), about.expects());
    let path = Path::new(&about.address).to_owned();
    let stream: Box<dyn Read + Send> = Box::new(Cursor::new(start).chain(first));
    let passing = |source, checked| Passing {
        path: &path,
        beginning: &beginning,
        bytes: about.bytes,
        expects: &expects,
        source,
        checked,
        news: Some(heard),
    };
    let to = [to.to_owned()];
    if beginning.packed.is_some() || about.bytes.is_none() {
        let (source, checked) = stream::streamed(&path, &beginning, stream, &sums)?;
        stream::write(passing(&source, checked), &to, &asked.job, confirming, session)
    } else {
        let line = DistantImage { caller: &caller, bytes: about.bytes, first: Mutex::new(Some(stream)) };
        let checked = Checked { sums, ..Checked::default() };
        stream::write(passing(&line, checked), &to, &asked.job, confirming, session)
    }
}

/// Starts the process that talks to the network.
struct Caller<'a> {
    asked: &'a Fetch,
    session: &'a Session<'a>,
    /// What it says on the way.
    voice: Sender<String>,
}

impl Caller<'_> {
    /// Has the image from byte `from` on.
    fn call(&self, from: u64) -> Result<(About, Incoming), Failure> {
        let failed = |error: io::Error| {
            Failure::new(
                Exit::Unexpected,
                format!("can't start the fetch: {}", plain(&error)),
                "run the same command again",
            )
        };
        let mut command = self.command(from).map_err(failed)?;
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().map_err(failed)?;
        let voice = self.voice.clone();
        let listening =
            child.stderr.take().map(|errors| std::thread::spawn(move || listen(BufReader::new(errors), &voice)));
        let output =
            child.stdout.take().map(|output| Hearing::new(output, self.session.cancel)).transpose().map_err(failed)?;
        let output = output.map(BufReader::new);
        let cancel = self.session.cancel.clone();
        let mut incoming = Incoming { child, output, cancel, listening, gave_up: None, has_ended: false };
        let mut line = String::new();
        let told = incoming.output.as_mut().map_or(Ok(0), |output| output.take(ABOUT_BYTES_MOST).read_line(&mut line));
        match told.and_then(|_| Ok(serde_json::from_str(&line)?)) {
            Ok(about) => Ok((about, incoming)),
            Err(error) => Err(incoming.failure(&error)),
        }
    }

    /// The same question to a process of its own.
    fn command(&self, from: u64) -> io::Result<Command> {
        let (asked, common) = (self.asked, self.session.common);
        let mut command = Command::new(std::env::current_exe()?);
        command.arg("fetch").args(&asked.what).arg("--hand-over").arg(from.to_string());
        command.arg("--wait").arg(asked.wait.to_string());
        let mut give = |name: &str, value: Option<&std::ffi::OsStr>| {
            if let Some(value) = value {
                command.arg(name).arg(value);
            }
        };
        give("--catalogue", asked.catalogue.as_ref().map(AsRef::as_ref));
        give("--only", asked.only.as_ref().map(AsRef::as_ref));
        give("--near", asked.near.as_ref().map(AsRef::as_ref));
        give("--state", common.state.as_ref().map(AsRef::as_ref));
        give("--sums", asked.against.sums.as_ref().map(AsRef::as_ref));
        give("--signature", asked.against.signature.as_ref().map(AsRef::as_ref));
        for key in &asked.against.key {
            give("--key", Some(key.as_ref()));
        }
        for sum in &asked.against.sum {
            give("--sum", Some(format!("{}:{}", sum.algorithm.name(), sum.hex).as_ref()));
        }
        Ok(command)
    }
}

/// Passes on what the process says, and gives what it says last: why it gave up.
fn listen(errors: impl BufRead, voice: &Sender<String>) -> Option<Failure> {
    let mut last = None;
    for line in errors.lines().map_while(Result::ok) {
        match serde_json::from_str(&line) {
            Ok(Spoken::Failed { id, text, next }) => {
                last = Some(Failure::new(Exit::of_id(&id).unwrap_or(Exit::Unexpected), text, next));
            }
            // Nobody hears it when the job is over.
            Ok(Spoken::Said(text)) => drop(voice.send(text.trim_end().to_owned())),
            // What comes before it knows who listens, or from the system beneath it.
            Err(_) => drop(voice.send(line)),
        }
    }
    last
}

/// What comes from the process.
struct Incoming {
    child: Child,
    output: Option<BufReader<Hearing>>,
    cancel: Cancel,
    listening: Option<JoinHandle<Option<Failure>>>,
    /// Why it gave up, in its own words.
    gave_up: Option<Failure>,
    has_ended: bool,
}

impl Incoming {
    /// Waits for the process to end, and tells how it did.
    fn exit(&mut self) -> Option<i32> {
        self.has_ended = true;
        self.output = None;
        let status = self.child.wait().ok().and_then(|status| status.code());
        // It has said all it had to say by now.
        self.gave_up = self.listening.take().and_then(|listening| listening.join().ok()).flatten();
        status
    }

    /// Why the process gave up, in its own words.
    fn failure(&mut self, error: &io::Error) -> Failure {
        if self.cancel.is_set() {
            return Failure::new(Exit::Stopped, "stopped: nothing was written", "run the same command again");
        }
        let status = self.exit();
        self.gave_up.take().unwrap_or_else(|| {
            let text = format!("the fetch gave no image: {}", plain(error));
            let exit = if status.is_some_and(|status| status > 1) { Exit::Stopped } else { Exit::Unexpected };
            Failure::new(exit, text, "run the same command again")
        })
    }
}

impl Read for Incoming {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.output.as_mut().map_or(Ok(0), |output| output.read(into))?;
        // The end of the pipe is the end of the image only if the process says so.
        if count == 0 && !into.is_empty() && !self.has_ended && self.exit() != Some(0) {
            let why = self.gave_up.as_ref().map_or("the fetch ended early", |failure| failure.text.as_str());
            return Err(io::Error::other(why.to_owned()));
        }
        Ok(count)
    }
}

impl Drop for Incoming {
    fn drop(&mut self) {
        if !self.has_ended {
            // It may have ended by itself in this moment.
            let _ = self.child.kill();
            self.exit();
        }
    }
}

/// An image on the line, of known length: it can be had from any place on.
struct DistantImage<'a> {
    caller: &'a Caller<'a>,
    bytes: Option<u64>,
    first: Mutex<Option<Box<dyn Read + Send>>>,
}

impl Source for DistantImage<'_> {
    fn bytes(&self) -> Option<u64> {
        self.bytes
    }

    fn access(&self) -> Access {
        Access::Costly
    }

    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        if at == 0
            && let Some(first) = self.first.lock().unwrap_or_else(PoisonError::into_inner).take()
        {
            return Ok(first);
        }
        match self.caller.call(at) {
            Ok((_, incoming)) => Ok(Box::new(incoming)),
            Err(failure) => Err(io::Error::other(failure.text)),
        }
    }

    fn kept(&self) -> Option<&dyn ReadAt> {
        None
    }

    fn prove(&self) -> Result<(), String> {
        Ok(())
    }
}
