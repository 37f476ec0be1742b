//! Output files of a command in folders that its fence closes. The output writer, a second process of this program, writes, renames and
//! removes these files on request, and no others.

use std::ffi::{OsStr, OsString};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};

use serde::{Deserialize, Serialize};

use super::system::{current_program_path, in_new_process_group};

/// Environment variable that starts this program as an output writer. Its value is the id of the process that sends the requests.
pub(super) const OUTPUT_WRITER: &str = "PYROTYP_OUTPUT_WRITER";
/// Limits for one request or response, and for the content of one file.
const MAX_LINE_BYTES: u64 = 1 << 20;
const MAX_FILE_BYTES: u64 = 64 << 20;

/// Files that an output writer may write, rename or remove, as absolute paths.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OutputFiles {
    /// Files with exactly these paths.
    named: Vec<OsString>,
    /// Files with a suffix to one of these names, such as `label-590J1.svg` for `label.svg`.
    suffixed: Vec<OsString>,
    /// Empty files that exist already. The output writer removes those that are still empty when the command ends.
    created: Vec<OsString>,
}

fn absolute(path: &Path) -> PathBuf {
    std::path::absolute(path).unwrap_or_else(|_| path.to_owned())
}

impl OutputFiles {
    /// Adds a file.
    pub fn add_file(&mut self, file: &Path) {
        self.named.push(absolute(file).into());
    }

    /// Adds all files in the same folder whose name is this name with a dash and a suffix before the extension.
    pub fn add_suffixed_files(&mut self, file: &Path) {
        self.suffixed.push(absolute(file).into());
    }

    /// Adds an empty file that exists already, and that the command itself writes.
    pub(super) fn add_created_file(&mut self, file: &Path) {
        self.created.push(absolute(file).into());
    }

    /// Returns true if the command has no output files.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Returns the files that existed, empty, before the command began.
    pub(super) fn created(&self) -> impl Iterator<Item = &Path> {
        self.created.iter().map(Path::new)
    }

    /// Returns true if this is one of the files.
    pub(super) fn contains(&self, path: &Path) -> bool {
        let is_suffixed = |of: &OsString| {
            let of = Path::new(of);
            let parts = |path: &Path| (path.parent().map(Path::to_owned), path.extension().map(OsStr::to_owned));
            let [stem, of_stem] = [path, of].map(|path| path.file_stem().unwrap_or_default().as_encoded_bytes());
            let more = stem.strip_prefix(of_stem).and_then(|more| more.strip_prefix(b"-"));
            parts(path) == parts(of) && more.is_some_and(|more| !more.is_empty())
        };
        let is_named = self.named.iter().chain(&self.created).any(|one| Path::new(one) == path);
        is_named || self.suffixed.iter().any(is_suffixed)
    }
}

/// Operation on an output file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum OutputAction {
    /// Replaces the file atomically: [`keep_own`](super::file::keep_own).
    WriteAtomically,
    /// Writes the file and creates its parent folders: [`put_file`](super::file::put_file).
    Write {
        /// If false, an existing file stays as it is.
        replaces: bool,
    },
    /// Renames the file unless the new name exists: [`rename_without_replacing`](super::file::rename_without_replacing).
    Rename {
        /// New absolute path, also one of the output files.
        to: OsString,
    },
    /// Removes the file.
    Remove,
}

/// Header of a request to the output writer. The file's new content follows.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct OutputRequest {
    pub path: OsString,
    pub action: OutputAction,
    /// Length of the content.
    pub content_bytes: u64,
}

/// Result of a request: the return value of the operation, or its error.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum OutputResponse {
    Done(bool),
    Failed { number: Option<i32>, text: String },
}

impl From<io::Result<bool>> for OutputResponse {
    fn from(done: io::Result<bool>) -> Self {
        match done {
            Ok(done) => Self::Done(done),
            Err(error) => Self::Failed { number: error.raw_os_error(), text: error.to_string() },
        }
    }
}

impl OutputResponse {
    fn into_result(self) -> io::Result<bool> {
        match self {
            Self::Done(done) => Ok(done),
            Self::Failed { number: Some(number), .. } => Err(io::Error::from_raw_os_error(number)),
            Self::Failed { number: None, text } => Err(io::Error::other(text)),
        }
    }
}

/// Receives a JSON document of one line. Returns `None` at the end of the stream.
pub(super) fn recv<T: for<'a> Deserialize<'a>>(from: &mut impl BufRead) -> io::Result<Option<T>> {
    let mut line = Vec::new();
    let count = from.take(MAX_LINE_BYTES).read_until(b'\n', &mut line)?;
    if count == 0 { Ok(None) } else { Ok(Some(serde_json::from_slice(&line)?)) }
}

/// Sends a JSON document of one line, then these bytes.
pub(super) fn send(into: &mut impl Write, what: &impl Serialize, bytes: &[u8]) -> io::Result<()> {
    let mut line = serde_json::to_vec(what)?;
    line.push(b'\n');
    into.write_all(&line)?;
    into.write_all(bytes)?;
    into.flush()
}

/// Receives the content that follows a request header.
pub(super) fn recv_bytes(from: &mut impl BufRead, count: u64) -> io::Result<Vec<u8>> {
    if count > MAX_FILE_BYTES {
        return Err(io::ErrorKind::FileTooLarge.into());
    }
    let mut bytes = Vec::new();
    from.take(count).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == count { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

/// Connection to the output writer.
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

/// Starts the output writer for these files. Call this before the fence closes.
///
/// # Errors
/// When the system starts no second process.
pub fn start_output_writer(files: &OutputFiles) -> io::Result<()> {
    let mut command = Command::new(current_program_path()?);
    command.env(OUTPUT_WRITER, std::process::id().to_string());
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    // Ctrl-C must not end it before this process has finished its files.
    let mut process = in_new_process_group(&mut command).spawn()?;
    let gone = || io::Error::from(io::ErrorKind::BrokenPipe);
    let (mut requests, answers) = (process.stdin.take().ok_or_else(gone)?, process.stdout.take().ok_or_else(gone)?);
    send(&mut requests, files, &[])?;
    let writer = OutputWriter { files: files.clone(), requests, answers: BufReader::new(answers), process };
    *self::writer() = Some(writer);
    Ok(())
}

/// Stops the output writer and waits until it has removed the files that are still empty.
pub fn stop_output_writer() {
    if let Some(OutputWriter { requests, mut process, .. }) = writer().take() {
        drop(requests);
        // Its exit status has no meaning.
        let _ = process.wait();
    }
}

/// Requests an operation on an output file and returns its result; `None` if the file is not an output file of this command.
pub(super) fn request_output(path: &Path, action: OutputAction, bytes: &[u8]) -> Option<io::Result<bool>> {
    let path = absolute(path);
    let mut writer = writer();
    let writer = writer.as_mut()?;
    if !writer.files.contains(&path) {
        return None;
    }
    let request = OutputRequest { path: path.into(), action, content_bytes: bytes.len() as u64 };
    let mut answer = || {
        send(&mut writer.requests, &request, bytes)?;
        recv::<OutputResponse>(&mut writer.answers)?.ok_or(io::ErrorKind::BrokenPipe)?.into_result()
    };
    Some(answer())
}
