//! What is asked over the system's bus, and what its refusals mean.

use std::collections::HashMap;
use std::fs::File;
use std::os::fd::OwnedFd;
use std::time::Duration;

use rustix::fs::{OFlags, fcntl_getfl};
use zbus::blocking::{Connection, connection};
use zbus::message::Body;
use zbus::zvariant::{self, DynamicType, OwnedObjectPath, OwnedValue, Value};

use crate::devices::{NotServed, Whom};

const SERVICE: &str = "org.freedesktop.UDisks2";
const MANAGER: &str = "/org/freedesktop/UDisks2/Manager";
const RULES: &str = "org.freedesktop.PolicyKit1";
const AUTHORITY: &str = "/org/freedesktop/PolicyKit1/Authority";
/// Where an object is asked for what it is.
const PROPERTIES: &str = "org.freedesktop.DBus.Properties";
/// The first that has `OpenDevice`.
const FIRST_VERSION: [u32; 3] = [2, 7, 3];
/// How long an answer may take that no person has to give, and one that a person gives.
const QUICK: Duration = Duration::from_secs(30);
const PATIENT: Duration = Duration::from_secs(600);

/// What a drive is opened for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum OpenedFor {
    /// Reading, past the system's caches.
    ReadingDirect,
    /// Reading, through them.
    ReadingCached,
    /// Writing, past the system's caches, by one program alone.
    WritingAlone,
}

impl OpenedFor {
    fn flags(self) -> OFlags {
        match self {
            Self::ReadingDirect => OFlags::DIRECT,
            Self::ReadingCached => OFlags::empty(),
            Self::WritingAlone => OFlags::DIRECT | OFlags::EXCL,
        }
    }
}

/// The system's disk service.
pub(super) struct DiskService {
    quick: Connection,
    patient: Connection,
    version: String,
}

/// How it is taken back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum TakenOut {
    /// The medium is ejected.
    Ejected,
    /// The port's power is switched off.
    PoweredOff,
}

impl DiskService {
    /// The one of this system, which is started by that where it does not run.
    pub(super) fn connect() -> Result<Self, NotServed> {
        let connect = |patience| {
            let bus = connection::Builder::system().map(|builder| builder.method_timeout(patience));
            bus.and_then(connection::Builder::build).map_err(|_| NotServed::NoService)
        };
        let mut service = Self { quick: connect(QUICK)?, patient: connect(PATIENT)?, version: String::new() };
        service.version = service.property(&Self::object(MANAGER)?, "org.freedesktop.UDisks2.Manager", "Version")?;
        if numbers(&service.version) < FIRST_VERSION {
            return Err(service.too_old());
        }
        Ok(service)
    }

    fn too_old(&self) -> NotServed {
        NotServed::TooOld { version: self.version.clone() }
    }

    fn object(path: &str) -> Result<OwnedObjectPath, NotServed> {
        OwnedObjectPath::try_from(path.to_owned()).map_err(|error| NotServed::Failed { said: error.to_string() })
    }

    /// Asks the service, and waits for as long as that may take.
    fn ask<B>(&self, by: &Connection, object: &OwnedObjectPath, call: (&str, &str), body: &B) -> Result<Body, NotServed>
    where
        B: serde::Serialize + DynamicType,
    {
        let (interface, method) = call;
        let answer = by.call_method(Some(SERVICE), object, Some(interface), method, body);
        answer.map(|answer| answer.body()).map_err(|error| self.meaning(error))
    }

    fn property<T>(&self, object: &OwnedObjectPath, interface: &str, name: &str) -> Result<T, NotServed>
    where
        T: TryFrom<OwnedValue>,
    {
        let answer = self.ask(&self.quick, object, (PROPERTIES, "Get"), &(interface, name))?;
        let value: OwnedValue = answer.deserialize().map_err(|error| self.meaning(error))?;
        T::try_from(value).map_err(|_| NotServed::Failed { said: format!("{name} is not what it should be") })
    }

    /// What the service calls the device at a path.
    fn block(&self, path: &str) -> Result<OwnedObjectPath, NotServed> {
        let asked = HashMap::from([("path", Value::from(path))]);
        let call = ("org.freedesktop.UDisks2.Manager", "ResolveDevice");
        let answer = self.ask(&self.quick, &Self::object(MANAGER)?, call, &(asked, no_options()))?;
        let found: Vec<OwnedObjectPath> = answer.deserialize().map_err(|error| self.meaning(error))?;
        found.into_iter().next().ok_or_else(|| NotServed::Failed { said: format!("it does not know {path}") })
    }

    /// Whom the system asks before the device is opened.
    pub(super) fn whom(&self, path: &str) -> Result<Whom, NotServed> {
        let is_systems = self.property(&self.block(path)?, "org.freedesktop.UDisks2.Block", "HintSystem")?;
        let action = if is_systems { "open-device-system" } else { "open-device" };
        let action = format!("{SERVICE_ACTIONS}{action}");
        let own_name = self.quick.unique_name().map(ToString::to_string).unwrap_or_default();
        let subject = ("system-bus-name", HashMap::from([("name", Value::from(own_name))]));
        let question = (subject, action.as_str(), HashMap::<&str, &str>::new(), 0_u32, "");
        let answer = self.ask_rules("CheckAuthorization", &question)?;
        let (is_authorized, is_challenge, _): (bool, bool, HashMap<String, String>) =
            answer.deserialize().map_err(|error| self.meaning(error))?;
        match (is_authorized, is_challenge) {
            (true, _) => Ok(Whom::Nobody),
            (false, true) => Ok(self.who_answers(&action).unwrap_or(Whom::Administrator)),
            (false, false) => Err(NotServed::Refused),
        }
    }

    fn ask_rules<B: serde::Serialize + DynamicType>(&self, method: &str, body: &B) -> Result<Body, NotServed> {
        let interface = "org.freedesktop.PolicyKit1.Authority";
        let answer = self.quick.call_method(Some(RULES), AUTHORITY, Some(interface), method, body);
        answer.map(|answer| answer.body()).map_err(|error| self.meaning(error))
    }

    /// Whose password it is that is asked for.
    fn who_answers(&self, action: &str) -> Option<Whom> {
        type Action = (String, String, String, String, String, String, u32, u32, u32, HashMap<String, String>);
        let answer = self.ask_rules("EnumerateActions", &"").ok()?;
        let actions: Vec<Action> = answer.deserialize().ok()?;
        let (.., any, inactive, active, _) = actions.into_iter().find(|one| one.0 == action)?;
        // `PolkitImplicitAuthorization`: 1 and 3 are the person's own password, 2 and 4 an administrator's.
        let is_own = [any, inactive, active].iter().all(|implicit| matches!(implicit, 1 | 3));
        Some(if is_own { Whom::Person } else { Whom::Administrator })
    }

    /// Opens a device; the system may ask somebody first.
    pub(super) fn open(&self, path: &str, opened_for: OpenedFor) -> Result<File, NotServed> {
        let flags = opened_for.flags();
        let mode = if opened_for == OpenedFor::WritingAlone { "rw" } else { "r" };
        let flags_value = Value::from(i32::try_from(flags.bits()).unwrap_or_default());
        let options = HashMap::from([("flags", flags_value)]);
        let call = ("org.freedesktop.UDisks2.Block", "OpenDevice");
        let answer = self.ask(&self.patient, &self.block(path)?, call, &(mode, options))?;
        let handle: zvariant::OwnedFd = answer.deserialize().map_err(|error| self.meaning(error))?;
        let file = File::from(OwnedFd::from(handle));
        // Who passes over the one flag that shows has passed over the other as well.
        let held = fcntl_getfl(&file).map_err(|error| NotServed::Failed { said: error.to_string() })?;
        if !held.contains(flags.difference(OFlags::EXCL)) {
            return Err(self.too_old());
        }
        if opened_for == OpenedFor::WritingAlone && held.intersection(OFlags::RWMODE) != OFlags::RDWR {
            return Err(NotServed::Failed { said: "what it opened can't be written".to_owned() });
        }
        Ok(file)
    }

    /// Unmounts the device's volume.
    pub(super) fn unmount(&self, path: &str) -> Result<(), NotServed> {
        let call = ("org.freedesktop.UDisks2.Filesystem", "Unmount");
        self.ask(&self.patient, &self.block(path)?, call, &no_options()).map(drop)
    }

    /// Mounts the device's volume at the service's default place.
    pub(super) fn mount(&self, path: &str) -> Result<(), NotServed> {
        let call = ("org.freedesktop.UDisks2.Filesystem", "Mount");
        self.ask(&self.patient, &self.block(path)?, call, &no_options()).map(drop)
    }

    /// Has the kernel read the device's partition table again; nobody is asked for that.
    pub(super) fn rescan(&self, path: &str) -> Result<(), NotServed> {
        let call = ("org.freedesktop.UDisks2.Block", "Rescan");
        let asking_nobody = HashMap::from([("auth.no_user_interaction", Value::from(true))]);
        self.ask(&self.quick, &self.block(path)?, call, &asking_nobody).map(drop)
    }

    /// How the drive is to be taken out.
    pub(super) fn way_out(&self, path: &str) -> Result<TakenOut, NotServed> {
        let drive = self.drive(path)?;
        let says = |name| self.property::<bool>(&drive, "org.freedesktop.UDisks2.Drive", name);
        // A reader is left on: other cards may be in it.
        Ok(if !says("Ejectable")? && says("CanPowerOff")? { TakenOut::PoweredOff } else { TakenOut::Ejected })
    }

    /// Ejects the drive, or switches it off.
    pub(super) fn take_out(&self, path: &str, way: TakenOut) -> Result<(), NotServed> {
        let method = match way {
            TakenOut::Ejected => "Eject",
            TakenOut::PoweredOff => "PowerOff",
        };
        let call = ("org.freedesktop.UDisks2.Drive", method);
        self.ask(&self.patient, &self.drive(path)?, call, &no_options()).map(drop)
    }

    fn drive(&self, path: &str) -> Result<OwnedObjectPath, NotServed> {
        self.property(&self.block(path)?, "org.freedesktop.UDisks2.Block", "Drive")
    }

    /// What it means that no answer came, or this one.
    fn meaning(&self, error: zbus::Error) -> NotServed {
        meaning(error, &self.version)
    }
}

/// By which polkit knows what the service may be asked.
const SERVICE_ACTIONS: &str = "org.freedesktop.udisks2.";

fn no_options() -> HashMap<&'static str, Value<'static>> {
    HashMap::new()
}

/// The first numbers of a version.
fn numbers(version: &str) -> [u32; 3] {
    let mut parts = version.split(|c: char| !c.is_ascii_digit()).map(|part| part.parse().unwrap_or(0));
    std::array::from_fn(|_| parts.next().unwrap_or(0))
}

fn meaning(error: zbus::Error, version: &str) -> NotServed {
    let (name, said) = match error {
        zbus::Error::MethodError(name, said, _) => (name.to_string(), said.unwrap_or_default()),
        zbus::Error::InputOutput(error) if error.kind() == std::io::ErrorKind::TimedOut => return NotServed::Silent,
        zbus::Error::InputOutput(_) => return NotServed::NoService,
        other => return NotServed::Failed { said: other.to_string() },
    };
    match name.as_str() {
        "org.freedesktop.UDisks2.Error.NotAuthorizedCanObtain" => NotServed::NobodyToAsk,
        "org.freedesktop.UDisks2.Error.NotAuthorizedDismissed" => NotServed::Dismissed,
        "org.freedesktop.UDisks2.Error.NotAuthorized" => NotServed::Refused,
        "org.freedesktop.DBus.Error.UnknownMethod" | "org.freedesktop.DBus.Error.UnknownInterface" => {
            NotServed::TooOld { version: version.to_owned() }
        }
        "org.freedesktop.DBus.Error.ServiceUnknown" | "org.freedesktop.DBus.Error.NameHasNoOwner" => {
            NotServed::NoService
        }
        _ if name.starts_with("org.freedesktop.DBus.Error.Spawn.") => NotServed::NoService,
        "org.freedesktop.DBus.Error.NoReply" | "org.freedesktop.DBus.Error.Timeout" => NotServed::Silent,
        _ => NotServed::Failed { said },
    }
}
