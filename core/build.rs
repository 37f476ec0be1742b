//! Tells the library when it was built, in seconds since 1970: `SOURCE_DATE_EPOCH` where that is set, so that builds can be repeated.

use std::time::{SystemTime, UNIX_EPOCH};

fn main() {
    println!("cargo::rerun-if-env-changed=SOURCE_DATE_EPOCH");
    println!("cargo::rerun-if-changed=build.rs");
    let said = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|said| said.parse::<u64>().ok());
    let now = || SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    println!("cargo::rustc-env=BUILT_AT={}", said.unwrap_or_else(now));
}
