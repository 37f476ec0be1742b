//! Images that pass by once: from standard input, unpacked on the way, and proven at their end.

use std::io::{self, Cursor, Read};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use jiff::Timestamp;
use pyrotyp_core::hash::{Hashers, Sum};
use pyrotyp_core::image;
use pyrotyp_core::image::{Beginning, packed};
use pyrotyp_core::job::{Checked, Source, StreamedImage};
use pyrotyp_core::stop::Hearing;
use pyrotyp_core::text::Shown;

use super::confirming::{Confirming, ImageFrom, Question, confirm};
use super::job::{self, Heard, Ready, ToldAs};
use super::planning::{self, Image};
use crate::asked::{Job, Write};
use crate::exit::{Exit, Failure, plain};
use crate::session::Session;
use crate::session::attached::platform;
use crate::session::images::fit_to_write;

/// How much is read before anything is judged, in bytes: the head, and what a codec needs for as much.
pub(crate) const START_BYTES: u64 = 2 << 20;

/// What goes onto drives, what it is, and who says so.
pub(crate) struct Passing<'a> {
    /// How it is called.
    pub path: &'a Path,
    pub beginning: &'a Beginning,
    /// Its length, where that is known.
    pub bytes: Option<u64>,
    /// What it will be compared with, in words.
    pub expects: &'a str,
    pub source: &'a dyn Source,
    pub checked: Checked,
    /// What is said on the way.
    pub news: Option<Heard>,
}

/// Writes what comes on standard input.
pub(crate) fn from_input(asked: &Write, session: &Session<'_>) -> Result<Exit, Failure> {
    let against = &asked.against;
    if against.sums.is_some() || against.signature.is_some() || !against.key.is_empty() {
        let next = "give its checksum with --sum, or save it to a file and give that";
        return Err(Failure::new(Exit::Usage, "what comes on standard input has no name that a list could tell", next));
    }
    if against.sum.is_empty() {
        let text = "what comes on standard input is sealed only when its checksum is right, and none is given";
        return Err(Failure::new(Exit::Usage, text, "add the published one: --sum sha256:HEX"));
    }
    let confirming = Confirming::find(&asked.job, ImageFrom::StandardInput)?;
    let mut start = Vec::new();
    let unreadable = |error: io::Error| match session.cancel.is_set() {
        true => Failure::new(Exit::Stopped, "stopped; nothing was changed", "run the same command again"),
        false => {
            let text = format!("can't read standard input: {}", plain(&error));
            Failure::new(Exit::Image, text, "run the same command again")
        }
    };
    let mut input = Hearing::new(io::stdin(), session.cancel).map_err(unreadable)?;
    input.by_ref().take(START_BYTES).read_to_end(&mut start).map_err(unreadable)?;
    let is_all = (start.len() as u64) < START_BYTES;
    let total = is_all.then_some(start.len() as u64);
    let beginning = image::begin(&start, total)
        .map_err(|error| Failure::new(Exit::Unexpected, plain(&error), "report this: it should not happen"))?;
    let input = Cursor::new(start).chain(input);
    let path = Path::new("standard input");
    let (source, checked) = streamed(path, &beginning, Box::new(input), &against.sum)?;
    let algorithms: Vec<_> = against.sum.iter().map(|sum| sum.algorithm.to_string()).collect();
    let passing = Passing {
        path,
        beginning: &beginning,
        bytes: None,
        expects: &format!("compared on the way with {} from --sum", algorithms.join(", ")),
        source: &source,
        checked,
        news: None,
    };
    write(passing, &asked.to, &asked.job, confirming, session)
}

/// Guards, asks and writes: what all images that pass by have in common.
pub(crate) fn write(
    passing: Passing<'_>,
    to: &[String],
    asked: &Job,
    confirming: Confirming,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let started = Timestamp::now().to_string();
    let Passing { path, beginning, bytes, expects, source, checked, news } = passing;
    let inspection = &beginning.inspection;
    fit_to_write(path, inspection)?;
    let platform = &*platform(session.common)?;
    let image = Image {
        path,
        is_file: false,
        inspection,
        bytes,
        hole_bytes: 0,
        report: None,
        expects: Some(expects),
        checks: &[],
        behind: None,
    };
    let mut plan = planning::plan(to, &image, asked, platform, session)?;
    let ready = planning::clear(&plan)
        .and_then(|_| planning::may_claim(&mut plan, platform))
        .and_then(|()| planning::resuming(&plan, bytes.filter(|_| beginning.packed.is_none()), None, session.common))
        .and_then(|resuming| {
            let checksum = image.checksum();
            let question = Question { plan: &plan, content: image.on_card(&checksum), resuming: &resuming };
            confirm(question, confirming, session.cancel, &mut || Ok(()))
        })
        .and_then(|()| planning::look_again(&mut plan, platform, session.common))
        .and_then(|()| planning::clear(&plan));
    let cleared = match ready {
        Ok(cleared) => cleared,
        Err(failure) => return Err(job::refused(&plan, &started, failure, session)),
    };
    let told_as = ToldAs::Image;
    let ready = Ready { image, source, checked, plan: &plan, cleared, started: &started, news, told_as };
    job::run(ready, platform, session)
}

/// The image in a stream, unpacked if it is packed; what was published is compared with the stream as it comes.
pub(crate) fn streamed<'a>(
    path: &Path,
    beginning: &Beginning,
    stream: Box<dyn Read + Send + 'a>,
    sums: &[Sum],
) -> Result<(StreamedImage<'a>, Checked), Failure> {
    let Some(format) = beginning.packed else {
        let checked = Checked { sums: sums.to_vec(), ..Checked::default() };
        return Ok((StreamedImage::new(stream, Box::new(|| Ok(()))), checked));
    };
    let hashers = Hashers::new(sums.iter().map(|sum| sum.algorithm));
    let packed = CountedStream(Arc::new(Mutex::new(Counted { stream, hashers: Some(hashers) })));
    let unpacked = packed::unpacking(format, packed.clone()).map_err(|error| {
        let text = format!("{}: it can't be unpacked: {}", path.shown(), plain(&error));
        Failure::new(Exit::Image, text, "get it again, and compare its checksum")
    })?;
    let sums = sums.to_vec();
    Ok((StreamedImage::new(unpacked, Box::new(move || packed.prove(&sums))), Checked::default()))
}

/// A packed stream, hashed as it comes.
#[derive(Clone)]
struct CountedStream<'a>(Arc<Mutex<Counted<'a>>>);

struct Counted<'a> {
    stream: Box<dyn Read + Send + 'a>,
    hashers: Option<Hashers>,
}

impl Read for Counted<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.stream.read(into)?;
        if let Some(hashers) = &mut self.hashers {
            hashers.update(into.get(..count).unwrap_or_default());
        }
        Ok(count)
    }
}

impl Read for CountedStream<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).read(into)
    }
}

impl CountedStream<'_> {
    /// Takes what stands behind the packed image as well, and compares.
    fn prove(&self, sums: &[Sum]) -> Result<(), String> {
        let mut counted = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        io::copy(&mut *counted, &mut io::sink()).map_err(|error| plain(&error))?;
        let found = counted.hashers.take().map(Hashers::finish).unwrap_or_default();
        match sums.iter().find(|wanted| !found.contains(wanted)) {
            None => Ok(()),
            Some(wanted) => {
                let read = found.iter().find(|sum| sum.algorithm == wanted.algorithm).map_or("", |sum| &sum.hex);
                Err(format!(
                    "the {} of the image does not match\n   published   {}\n   this image  {read}",
                    wanted.algorithm, wanted.hex
                ))
            }
        }
    }
}
