//! Tells the library whether it is built for a system that it knows (`PYROTYP_NO_SYSTEM` says that it is not), and when it was built, in seconds since 1970: `SOURCE_DATE_EPOCH` where that is set, so that builds can be repeated.

use std::time::{SystemTime, UNIX_EPOCH};

fn main() {
    println!("cargo::rerun-if-env-changed=SOURCE_DATE_EPOCH");
    println!("cargo::rerun-if-env-changed=PYROTYP_NO_SYSTEM");
    println!("cargo::rerun-if-changed=build.rs");
    println!("cargo::rustc-check-cfg=cfg(no_system)");
    if std::env::var_os("PYROTYP_NO_SYSTEM").is_some() {
        println!("cargo::rustc-cfg=no_system");
    }
    let said = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|said| said.parse::<u64>().ok());
    let now = || SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    println!("cargo::rustc-env=BUILT_AT={}", said.unwrap_or_else(now));
}
