//! Addresses that can be fetched.

use url::Url;

use crate::fetch::fault::MirrorFault;

/// Reads an address of the kinds that can be fetched.
pub(super) fn address(text: &str) -> Result<Url, MirrorFault> {
    let parsed = Url::parse(text).ok().filter(|url| matches!(url.scheme(), "http" | "https") && url.has_host());
    parsed.ok_or_else(|| MirrorFault::Address { text: text.to_owned() })
}
