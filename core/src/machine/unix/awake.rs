//! A system that is asked not to sleep.
//!
//! Source: the D-Bus API of `org.freedesktop.login1.Manager`, `Inhibit`.

use std::io;
use std::os::fd::OwnedFd;
use std::time::Duration;

use zbus::blocking::connection;
use zbus::zvariant;

/// How long the system may take to answer.
const PATIENCE: Duration = Duration::from_secs(3);

/// As long as this lives, the system does not sleep or shut down by itself.
#[derive(Debug)]
pub struct Awake {
    _held: OwnedFd,
}

/// Asks the system not to sleep or shut down, and says why to whoever wants it to.
///
/// # Errors
/// When there is nobody to ask, or the answer is no.
pub fn stay_awake(why: &str) -> io::Result<Awake> {
    let bus = connection::Builder::system().map(|builder| builder.method_timeout(PATIENCE));
    let bus = bus.and_then(connection::Builder::build).map_err(io::Error::other)?;
    let (manager, place) = ("org.freedesktop.login1", "/org/freedesktop/login1");
    let asked = ("sleep:shutdown:idle", "Pyrotyp", why, "block");
    let answer = bus.call_method(Some(manager), place, Some("org.freedesktop.login1.Manager"), "Inhibit", &asked);
    let held: zvariant::OwnedFd = answer.and_then(|answer| answer.body().deserialize()).map_err(io::Error::other)?;
    Ok(Awake { _held: held.into() })
}
