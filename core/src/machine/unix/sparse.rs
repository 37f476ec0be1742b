//! A program of the system at work on a sparse file.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::process::{Command, Stdio};

use rustix::fs::{SeekFrom, seek};
use rustix::io::Errno;

use super::beside::find_program;
use crate::machine::sparse::{GivenFile, ProgramError, ProgramRun, WrittenStretch};

/// Most that is held of what a program wrote, in bytes.
const MOST: u64 = 192 << 20;
/// Has a program work on an empty file of so many bytes, and gives what it wrote there.
///
/// # Errors
/// When the program is not there or fails, or wrote more than can be held.
pub fn written_by(run: &ProgramRun<'_>, bytes: u64) -> Result<Vec<WrittenStretch>, ProgramError> {
    let ProgramRun { program, words, environment, folder: given } = *run;
    let called = || program.to_owned();
    let fail = |source| ProgramError::File { source };
    let found = find_program(program).ok_or_else(|| ProgramError::Missing { program: called() })?;
    let file = tempfile::NamedTempFile::new().map_err(fail)?;
    file.as_file().set_len(bytes).map_err(fail)?;
    let folder = tempfile::tempdir().map_err(fail)?;
    for GivenFile { name, bytes } in given.map_or(&[][..], |given| given.files) {
        std::fs::write(folder.path().join(name), bytes).map_err(fail)?;
    }
    let given = given.map(|given| [given.word.as_ref(), folder.path().as_os_str()]);
    let output = Command::new(found)
        .args(words)
        .args(given.into_iter().flatten())
        .arg(file.path())
        .env("LC_ALL", "C")
        .envs(environment.iter().copied())
        .stdin(Stdio::null())
        .output()
        .map_err(fail)?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr);
        let said = said.lines().rfind(|line| !line.trim().is_empty()).unwrap_or("it said nothing").trim().to_owned();
        return Err(ProgramError::Failed { program: called(), said });
    }
    let large = || ProgramError::Large { program: called(), most: MOST };
    stretches(file.as_file()).map_err(fail)?.ok_or_else(large)
}

/// The stretches of a file that hold anything; `None` where they are too many.
fn stretches(file: &File) -> io::Result<Option<Vec<WrittenStretch>>> {
    let (mut all, mut at, mut held) = (Vec::new(), 0u64, 0u64);
    loop {
        let start = match seek(file, SeekFrom::Data(at)) {
            Err(Errno::NXIO) => return Ok(Some(all)),
            found => found?,
        };
        let end = seek(file, SeekFrom::Hole(start))?;
        held = held.saturating_add(end.saturating_sub(start));
        if held > MOST || end <= start {
            return Ok(None);
        }
        let mut bytes = vec![0; usize::try_from(end.saturating_sub(start)).unwrap_or_default()];
        file.read_exact_at(&mut bytes, start)?;
        all.push(WrittenStretch { at: start, bytes });
        at = end;
    }
}
