//! Addresses as they may be shown and kept.

use url::Url;

/// Returns an address as it may be shown and kept: without user name, password, query and fragment, which may be secrets.
pub fn public_address(text: &str) -> String {
    let Ok(mut url) = Url::parse(text) else {
        return text.split(['?', '#']).next().unwrap_or_default().to_owned();
    };
    if url.cannot_be_a_base() {
        return text.to_owned();
    }
    url.set_query(None);
    url.set_fragment(None);
    // Only an address without a host refuses this, and then it has neither.
    let _ = url.set_username("").and_then(|()| url.set_password(None));
    url.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn public_address_has_no_credentials() {
        for (address, public) in [
            ("http://ann:PW@host.example/q.iso?token=T#f", "http://host.example/q.iso"),
            ("https://host.example:8443/a/q.iso", "https://host.example:8443/a/q.iso"),
            ("ftp://ann:PW@host.example/q.iso?x", "ftp://host.example/q.iso"),
            ("q.iso?token=T", "q.iso"),
        ] {
            assert_eq!(public_address(address), public);
        }
    }
}
