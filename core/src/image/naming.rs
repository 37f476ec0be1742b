//! What an image calls itself, taken apart: system, version, edition, architecture.
//!
//! No standard says how `.disk/info` or a volume label is worded; os-release(5) does. What is not found stays unknown.

use std::io;

use serde::{Deserialize, Serialize};

use crate::bytes::ReadAt;
use crate::image::architecture::Architecture;
use crate::volume::iso9660::IsoVolume;

/// What an image says of itself; every part only where it says it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Naming {
    /// In its own words, such as `Larkspur Linux 9.2 Desktop (64-bit)`.
    pub name: Option<String>,
    /// Such as `Larkspur Linux`.
    pub system: Option<String>,
    /// Such as `9.2`.
    pub version: Option<String>,
    /// Such as `Desktop`.
    pub edition: Option<String>,
    /// Whose processors.
    pub architecture: Option<Architecture>,
}

impl Naming {
    /// The system by which keys are remembered: where the image does not say it, the words of its label before the first number.
    pub fn system_or(&self, label: Option<&str>) -> Option<String> {
        let of_label = |label: &str| parts(label.split([' ', '_', '-']).filter(|word| !word.is_empty())).system;
        self.system.clone().or_else(|| of_label(label?))
    }

    /// System, version and edition in one line; `None` where it says no system.
    pub fn title(&self) -> Option<String> {
        let parts = [&self.system, &self.version, &self.edition];
        self.system.as_ref().map(|_| parts.into_iter().flatten().map(String::as_str).collect::<Vec<_>>().join(" "))
    }
}

/// Files in which systems say what they are, and how much of one is read, in bytes.
const FILES: [&str; 4] = [".disk/info", "etc/os-release", "usr/lib/os-release", "os-release"];
const FILE_BYTES: usize = 4096;
/// Longest name that is kept, in characters.
const NAME_MOST: usize = 120;

/// Words between version and edition that are neither.
const NEITHER: [&str; 4] = ["lts", "release", "official", "live"];

fn printable(text: &str) -> Option<String> {
    let line: String = text.chars().filter(|c| !c.is_control()).take(NAME_MOST).collect();
    (!line.trim().is_empty()).then(|| line.trim().to_owned())
}

/// What the files at the usual places say, or else the volume label.
///
/// # Errors
/// When the image can't be read.
pub(super) fn read(image: &dyn ReadAt, volume: &IsoVolume) -> io::Result<Naming> {
    let label = volume.label.as_deref().map(of_label).unwrap_or_default();
    for file in FILES {
        let Some(bytes) = volume.read_file(image, file, FILE_BYTES)? else { continue };
        let text = String::from_utf8_lossy(&bytes);
        let said = if file.ends_with("os-release") {
            of_os_release(&text)
        } else {
            text.lines().next().and_then(printable).map(|line| of_line(&line)).unwrap_or_default()
        };
        if said.name.is_some() {
            return Ok(Naming { architecture: said.architecture.or(label.architecture), ..said });
        }
    }
    Ok(label)
}

/// `Larkspur Linux 9.2 Desktop (64-bit), long-term release`.
fn of_line(line: &str) -> Naming {
    let is_gap = |c: char| c.is_whitespace() || "(),;\"".contains(c);
    let architecture = line.split(is_gap).find_map(Architecture::known);
    // A code name in quotation marks, and what follows a dash, a comma or a bracket, belongs to no part.
    let unquoted: String = line.split('"').step_by(2).collect::<Vec<_>>().join(" ");
    let main = unquoted.split(['(', ',', ';']).next().unwrap_or_default();
    let main = main.split(" - ").next().unwrap_or_default();
    let parts = parts(main.split_whitespace());
    Naming { name: Some(line.to_owned()), architecture, ..parts }
}

/// Words before the first number, the number, and the words behind it.
fn parts<'a>(words: impl Iterator<Item = &'a str>) -> Naming {
    let words: Vec<&str> = words.collect();
    let is_number = |word: &str| word.strip_prefix('v').unwrap_or(word).starts_with(|c: char| c.is_ascii_digit());
    let Some(place) = words.iter().skip(1).position(|word| is_number(word)) else {
        return Naming { system: printable(&words.join(" ")), ..Naming::default() };
    };
    let (system, rest) = words.split_at_checked(place.saturating_add(1)).unwrap_or_default();
    let edition = rest.iter().skip(1).copied();
    let edition: Vec<&str> = edition
        .filter(|word| Architecture::known(word).is_none() && !NEITHER.contains(&word.to_ascii_lowercase().as_str()))
        .collect();
    Naming {
        system: printable(&system.join(" ")),
        version: rest.first().and_then(|word| printable(word)),
        edition: printable(&edition.join(" ")),
        ..Naming::default()
    }
}

/// os-release(5): lines of `NAME=value`, quoted or not.
fn of_os_release(text: &str) -> Naming {
    let value = |key: &str| {
        let mut lines = text.lines().filter_map(|line| line.split_once('='));
        lines.find(|(name, _)| *name == key).and_then(|(_, value)| printable(value.trim_matches(['"', '\''])))
    };
    Naming {
        name: value("PRETTY_NAME").or_else(|| value("NAME")),
        system: value("NAME"),
        version: value("VERSION_ID"),
        edition: value("VARIANT"),
        architecture: None,
    }
}

/// A label is cut to what a volume takes, and its numbers are as often dates, bits or parts as versions: it tells the processor, no more.
fn of_label(label: &str) -> Naming {
    Naming { architecture: Architecture::mentioned_in(&label.to_ascii_lowercase()), ..Naming::default() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_taken_apart_where_they_say_something() {
        let told = |naming: Naming| {
            let Naming { system, version, edition, architecture, .. } = naming;
            let or = |part: Option<String>| part.unwrap_or("-".to_owned());
            format!(
                "{} | {} | {} | {}",
                or(system),
                or(version),
                or(edition),
                architecture.map_or("-", Architecture::word)
            )
        };
        let all = [
            told(of_line("Larkspur Linux 9.2 Desktop (64-bit), long-term release")),
            told(of_line("Brell Linux 24.1.3 LTS \"Quiet Otter\" - Release amd64 (20260827)")),
            told(of_line("Wrenfield Rescue")),
            told(of_os_release(
                "NAME=\"Odalen OS\"\nVERSION_ID=7\nVARIANT='Server'\nPRETTY_NAME=\"Odalen OS 7 (Server)\"\n",
            )),
            told(of_label("ODALEN_LIVE_64")),
            told(of_label("Marrow-WS-x86_64-41")),
        ];
        insta::assert_snapshot!(all.join("\n"), @"
        Larkspur Linux | 9.2 | Desktop | x86-64
        Brell Linux | 24.1.3 | - | x86-64
        Wrenfield Rescue | - | - | -
        Odalen OS | 7 | Server | -
        - | - | - | -
        - | - | - | x86-64
        ");
    }
}
