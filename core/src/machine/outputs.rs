//! Files that a command makes in a folder that its fence closes: it asks the output writer, a second process of this program, which makes
//! these files by name and nothing else.

use std::ffi::{OsStr, OsString};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};

use serde::{Deserialize, Serialize};

use super::system::{apart_from_terminal, own_program};

/// Variable that makes this program an output writer, with the number of the process that asks.
pub(super) const OUTPUT_WRITER: &str = "PYROTYP_OUTPUT_WRITER";
/// Longest request or answer, and most bytes of one file.
const MAX_LINE_BYTES: u64 = 1 << 20;
const MAX_FILE_BYTES: u64 = 64 << 20;

/// Files that an output writer may make, change or remove; absolute paths.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OutputFiles {
    /// These.
    named: Vec<OsString>,
    /// Files beside these, such as `label-590J1.svg` beside `label.svg`.
    variants: Vec<OsString>,
    /// Files that were begun for the command; they are removed if they are still empty when it ends.
    begun: Vec<OsString>,
}

fn absolute(path: &Path) -> PathBuf {
    std::path::absolute(path).unwrap_or_else(|_| path.to_owned())
}

impl OutputFiles {
    /// Adds a file.
    pub fn add(&mut self, file: &Path) {
        self.named.push(absolute(file).into());
    }

    /// Adds the files whose names begin with this one's and a dash, and end as it does.
    pub fn add_variants(&mut self, file: &Path) {
        self.variants.push(absolute(file).into());
    }

    /// Adds a file that the command itself writes, and that is made now.
    pub(super) fn add_begun(&mut self, file: &Path) {
        self.begun.push(absolute(file).into());
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.named.is_empty() && self.variants.is_empty() && self.begun.is_empty()
    }

    /// Files that were begun for the command.
    pub(super) fn begun(&self) -> impl Iterator<Item = &Path> {
        self.begun.iter().map(Path::new)
    }

    /// Whether this file may be made.
    pub(super) fn allow(&self, path: &Path) -> bool {
        let is_variant = |of: &OsString| {
            let of = Path::new(of);
            let parts = |path: &Path| (path.parent().map(Path::to_owned), path.extension().map(OsStr::to_owned));
            let [stem, of_stem] = [path, of].map(|path| path.file_stem().unwrap_or_default().as_encoded_bytes());
            let more = stem.strip_prefix(of_stem).and_then(|more| more.strip_prefix(b"-"));
            parts(path) == parts(of) && more.is_some_and(|more| !more.is_empty())
        };
        let is_named = self.named.iter().chain(&self.begun).any(|one| Path::new(one) == path);
        is_named || self.variants.iter().any(is_variant)
    }
}

/// What becomes of a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum OutputAction {
    /// It gets these bytes, whole or not at all; it may be there already.
    Keep,
    /// It gets these bytes; the folders above it are made. It is replaced, or stays as it is.
    Put {
        /// Whether one that is there is replaced.
        replaces: bool,
    },
    /// It gets this name, if nothing has it.
    Publish(OsString),
    /// It is removed.
    Remove,
}

/// What is asked of an output writer; the bytes follow.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct OutputRequest {
    pub path: OsString,
    pub action: OutputAction,
    pub bytes: u64,
}

/// How it went: whether it was done, or the error.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum OutputAnswer {
    Done(bool),
    Failed { number: Option<i32>, text: String },
}

impl OutputAnswer {
    pub(super) fn of(done: io::Result<bool>) -> Self {
        match done {
            Ok(done) => Self::Done(done),
            Err(error) => Self::Failed { number: error.raw_os_error(), text: error.to_string() },
        }
    }

    fn into_result(self) -> io::Result<bool> {
        match self {
            Self::Done(done) => Ok(done),
            Self::Failed { number: Some(number), .. } => Err(io::Error::from_raw_os_error(number)),
            Self::Failed { number: None, text } => Err(io::Error::other(text)),
        }
    }
}

/// Reads a line and what it says; `None` at the end.
pub(super) fn hear<T: for<'a> Deserialize<'a>>(from: &mut impl BufRead) -> io::Result<Option<T>> {
    let mut line = Vec::new();
    let count = from.take(MAX_LINE_BYTES).read_until(b'\n', &mut line)?;
    if count == 0 { Ok(None) } else { Ok(Some(serde_json::from_slice(&line)?)) }
}

pub(super) fn say(into: &mut impl Write, what: &impl Serialize, bytes: &[u8]) -> io::Result<()> {
    let mut line = serde_json::to_vec(what)?;
    line.push(b'\n');
    into.write_all(&line)?;
    into.write_all(bytes)?;
    into.flush()
}

/// The bytes that follow a request.
pub(super) fn hear_bytes(from: &mut impl BufRead, count: u64) -> io::Result<Vec<u8>> {
    if count > MAX_FILE_BYTES {
        return Err(io::ErrorKind::FileTooLarge.into());
    }
    let mut bytes = Vec::new();
    from.take(count).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == count { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

/// The other process, and the files that it may make.
struct OutputWriter {
    files: OutputFiles,
    requests: ChildStdin,
    answers: BufReader<ChildStdout>,
    process: Child,
}

static WRITER: Mutex<Option<OutputWriter>> = Mutex::new(None);

fn writer() -> MutexGuard<'static, Option<OutputWriter>> {
    WRITER.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Starts the output writer for these files; to be called before this process is fenced.
///
/// # Errors
/// When the system starts no second process.
pub fn start_output_writer(files: &OutputFiles) -> io::Result<()> {
    let mut command = Command::new(own_program()?);
    command.env(OUTPUT_WRITER, std::process::id().to_string());
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    // It ends with this process, and not by what is typed.
    let mut process = apart_from_terminal(&mut command).spawn()?;
    let gone = || io::Error::from(io::ErrorKind::BrokenPipe);
    let (mut requests, answers) = (process.stdin.take().ok_or_else(gone)?, process.stdout.take().ok_or_else(gone)?);
    say(&mut requests, files, &[])?;
    let writer = OutputWriter { files: files.clone(), requests, answers: BufReader::new(answers), process };
    *self::writer() = Some(writer);
    Ok(())
}

/// Ends the output writer, which removes what was begun and is still empty.
pub fn end_output_writer() {
    if let Some(OutputWriter { requests, mut process, .. }) = writer().take() {
        drop(requests);
        // It has nothing to tell.
        let _ = process.wait();
    }
}

/// Has the output writer do this, and tells whether it was done; `None` where the file is none of its.
pub(super) fn ask(path: &Path, action: OutputAction, bytes: &[u8]) -> Option<io::Result<bool>> {
    let path = absolute(path);
    let mut writer = writer();
    let writer = writer.as_mut()?;
    if !writer.files.allow(&path) {
        return None;
    }
    let request = OutputRequest { path: path.into(), action, bytes: bytes.len() as u64 };
    let mut asked = || {
        say(&mut writer.requests, &request, bytes)?;
        hear::<OutputAnswer>(&mut writer.answers)?.ok_or(io::ErrorKind::BrokenPipe)?.into_result()
    };
    Some(asked())
}
