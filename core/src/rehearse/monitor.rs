//! What the emulator is asked and told: the QEMU Machine Protocol, a line of JSON each way (QEMU, docs/interop/qmp-spec).

use std::time::{Duration, Instant};

use serde_json::{Value, json};

use super::error::RehearseError;
use crate::machine::Channel;

/// How long it may take to answer.
const PATIENCE: Duration = Duration::from_secs(20);
/// Longest line that is taken, in bytes.
const LINE_BYTES_MOST: usize = 1 << 20;

/// The line to the emulator.
pub(super) struct Monitor {
    line: Channel,
    heard: Vec<u8>,
    /// How often the PC was reset from within.
    pub resets: u32,
    /// Whether the PC was switched off from within.
    pub is_off: bool,
}

fn silent(said: &str) -> RehearseError {
    RehearseError::Emulator { said: said.to_owned() }
}

impl Monitor {
    /// The line, once both sides know how they talk.
    pub(super) fn new(line: Channel) -> Result<Self, RehearseError> {
        let mut monitor = Self { line, heard: Vec::new(), resets: 0, is_off: false };
        monitor.ask("qmp_capabilities", json!({}))?;
        Ok(monitor)
    }

    /// Asks for something and waits for the answer.
    pub(super) fn ask(&mut self, command: &str, arguments: Value) -> Result<Value, RehearseError> {
        let mut words = json!({ "execute": command, "arguments": arguments }).to_string();
        words.push('\n');
        self.line.say(words.as_bytes(), PATIENCE).map_err(|_| silent("it takes no orders"))?;
        let begun = Instant::now();
        while begun.elapsed() < PATIENCE {
            let Some(mut told) = self.next_line()? else { continue };
            if let Some(error) = told.get("error") {
                let why = error.get("desc").and_then(Value::as_str).unwrap_or("it does not say why");
                return Err(silent(&format!("{command}: {why}")));
            }
            if let Some(answer) = told.get_mut("return") {
                return Ok(answer.take());
            }
            self.note(&told);
        }
        Err(silent(&format!("no answer to {command}")))
    }

    /// Notes what happened to the PC.
    fn note(&mut self, told: &Value) {
        match told.get("event").and_then(Value::as_str) {
            // The first comes when it is switched on, and is nobody's doing.
            Some("RESET") if told.pointer("/data/guest") == Some(&Value::Bool(true)) => {
                self.resets = self.resets.saturating_add(1);
            }
            Some("SHUTDOWN") => self.is_off = true,
            _ => {}
        }
    }

    fn next_line(&mut self) -> Result<Option<Value>, RehearseError> {
        loop {
            if let Some(end) = memchr::memchr(b'\n', &self.heard) {
                let line: Vec<u8> = self.heard.drain(..=end).collect();
                return serde_json::from_slice(&line).map(Some).map_err(|_| silent("its answer is none"));
            }
            let mut piece = [0; 4096];
            match self.line.hear(&mut piece, Duration::from_millis(200)) {
                Ok(None) => return Ok(None),
                Ok(Some(count)) if count > 0 && self.heard.len() < LINE_BYTES_MOST => {
                    self.heard.extend_from_slice(piece.get(..count).unwrap_or_default());
                }
                Ok(Some(0)) | Err(_) => return Err(silent("it ended by itself")),
                Ok(Some(_)) => return Err(silent("its answer has no end")),
            }
        }
    }
}
