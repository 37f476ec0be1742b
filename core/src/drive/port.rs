//! Where a USB device is plugged in: the way from the bus through hubs to a socket, which stays the same as long as nothing is moved.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Deepest that hubs may be behind each other, the socket of the last one included (USB 2.0, §4.1.1: seven tiers).
const TIERS_MOST: usize = 6;

/// A socket.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Port {
    bus: u32,
    /// The socket of each hub on the way, from the bus on; one at least.
    sockets: Vec<u32>,
}

/// The text names no socket.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a port is a bus and its sockets, such as 1-2.3")]
pub struct NoPort;

impl FromStr for Port {
    type Err = NoPort;

    /// As the kernel writes it: `1-2.3` is bus 1, socket 2, where a hub is, and its socket 3.
    fn from_str(text: &str) -> Result<Self, NoPort> {
        let (bus, sockets) = text.split_once('-').ok_or(NoPort)?;
        let sockets: Result<Vec<u32>, _> =
            sockets.split('.').take(TIERS_MOST.saturating_add(1)).map(str::parse).collect();
        let sockets = sockets.ok().filter(|sockets| sockets.len() <= TIERS_MOST).ok_or(NoPort)?;
        Ok(Self { bus: bus.parse().map_err(|_| NoPort)?, sockets })
    }
}

impl fmt::Display for Port {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sockets: Vec<String> = self.sockets.iter().map(u32::to_string).collect();
        write!(f, "{}-{}", self.bus, sockets.join("."))
    }
}

impl From<Port> for String {
    fn from(port: Port) -> Self {
        port.to_string()
    }
}

impl TryFrom<String> for Port {
    type Error = NoPort;

    fn try_from(text: String) -> Result<Self, NoPort> {
        text.parse()
    }
}

impl Port {
    /// Whether this is that socket, or one behind a hub in it.
    pub fn is_below(&self, other: &Self) -> bool {
        self.bus == other.bus && self.sockets.starts_with(&other.sockets)
    }

    /// In words: `bus 1, socket 2`, or `bus 1, hub in socket 2, socket 3`.
    pub fn words(&self) -> String {
        let mut words = format!("bus {}", self.bus);
        let last = self.sockets.len().saturating_sub(1);
        for (tier, socket) in self.sockets.iter().enumerate() {
            words.push_str(&if tier == last {
                format!(", socket {socket}")
            } else {
                format!(", hub in socket {socket}")
            });
        }
        words
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_port_is_told_from_the_bus_to_the_socket() {
        let words = |text: &str| text.parse::<Port>().map(|port| (port.to_string() == text, port.words()));
        assert_eq!(words("1-2"), Ok((true, "bus 1, socket 2".to_owned())));
        assert_eq!(words("3-1.4.2"), Ok((true, "bus 3, hub in socket 1, hub in socket 4, socket 2".to_owned())));
        for none in ["", "1", "usb1", "1-", "-2", "1-2.", "1-2.x", "1-1.1.1.1.1.1.1"] {
            assert_eq!(words(none), Err(NoPort), "{none}");
        }
    }

    #[test]
    fn what_hangs_on_a_hub_is_below_its_socket() {
        let port = |text: &str| text.parse::<Port>().unwrap();
        assert!(port("1-2.3").is_below(&port("1-2")) && port("1-2").is_below(&port("1-2")));
        assert!(!port("1-2").is_below(&port("1-2.3")) && !port("2-2.3").is_below(&port("1-2")));
        assert!(!port("1-21").is_below(&port("1-2")));
    }

    proptest! {
        #[test]
        fn no_text_makes_it_panic(text: String) {
            let _ = text.parse::<Port>();
        }
    }
}
