//! Where arrivals are told to: a program of the household's own on its network.

use std::net::Ipv4Addr;
use std::time::Duration;

use url::{Host, Url};

/// How often telling is tried, and the pauses before it is tried again.
pub const PAUSES: [Duration; 2] = [Duration::from_secs(1), Duration::from_secs(5)];
/// Bytes of such an address.
const URL: usize = 1024;

/// Why an address is none to which arrivals are told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WebhookError {
    /// It is no address of plain HTTP with a number for a host.
    #[error("it is not of the form http://192.168.1.5:8000/path")]
    Form,
    /// It leads out of the house.
    #[error("it leads out of the local network, and what happens in a house stays in it")]
    Outside,
}

/// Reads an address on the local network: plain HTTP to a private, link-local or loopback address.
/// Names are not looked up (SEC-9).
///
/// # Errors
/// [`WebhookError`] for any other.
pub fn read(text: &str) -> Result<Url, WebhookError> {
    let url = Url::parse(text.trim()).map_err(|_| WebhookError::Form)?;
    let plain = url.scheme() == "http" && url.username().is_empty() && url.password().is_none();
    let Some(Host::Ipv4(host)) = url.host() else { return Err(WebhookError::Form) };
    if !plain || text.len() > URL || url.port() == Some(0) {
        return Err(WebhookError::Form);
    }
    let is_local = |host: Ipv4Addr| host.is_private() || host.is_link_local() || host.is_loopback();
    if is_local(host) { Ok(url) } else { Err(WebhookError::Outside) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_addresses_of_the_local_network_are_told() {
        for fine in ["http://192.168.1.5/a?b=c", " http://127.0.0.1:9000/ ", "http://10.0.0.2:80"] {
            assert!(read(fine).is_ok(), "{fine}");
        }
        for form in [
            "https://10.0.0.2/",
            "http://box.example/",
            "http://u@10.0.0.2/",
            "ftp://10.0.0.2/",
            "",
            "http://[::1]/",
            "http://10.0.0.2:0/",
        ] {
            assert_eq!(read(form), Err(WebhookError::Form), "{form}");
        }
        for outside in ["http://198.51.100.7/", "http://8.8.8.8/"] {
            assert_eq!(read(outside), Err(WebhookError::Outside), "{outside}");
        }
        assert_eq!(read(&format!("http://10.0.0.2/{}", "x".repeat(2000))), Err(WebhookError::Form));
    }
}
