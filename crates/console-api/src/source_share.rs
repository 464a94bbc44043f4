//! A share of the console's connections for each source, so that one machine cannot take all.

use std::any::Any;
use std::collections::HashMap;
use std::net::{IpAddr, Shutdown};
use std::sync::{Arc, Mutex, PoisonError};

use actix_tls::accept::rustls_0_23::TlsStream;
use actix_web::dev::Extensions;
use socket2::SockRef;
use tokio::net::TcpStream;

/// The connections that sources have.
#[derive(Debug, Clone)]
pub(crate) struct SourceShare {
    most: usize,
    open: Arc<Mutex<HashMap<IpAddr, usize>>>,
}

/// One connection of a source, until it ends.
struct Counted {
    share: SourceShare,
    source: IpAddr,
}

impl SourceShare {
    /// With at most so many for one source.
    pub(crate) fn new(most: usize) -> SourceShare {
        SourceShare { most, open: Arc::default() }
    }

    /// Counts a connection; one that is too many for its source ends at once.
    pub(crate) fn note(&self, stream: &dyn Any, data: &mut Extensions) {
        let tls = stream.downcast_ref::<TlsStream<TcpStream>>().map(|tls| tls.get_ref().0);
        let Some(stream) = stream.downcast_ref::<TcpStream>().or(tls) else { return };
        let Ok(peer) = stream.peer_addr() else { return };
        match self.begin(peer.ip()) {
            Some(counted) => drop(data.insert(counted)),
            None => drop(SockRef::from(stream).shutdown(Shutdown::Both)),
        }
    }

    fn begin(&self, source: IpAddr) -> Option<Counted> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let has = open.get(&source).copied().unwrap_or(0);
        if has >= self.most {
            return None;
        }
        open.insert(source, has + 1);
        Some(Counted { share: self.clone(), source })
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        let mut open = self.share.open.lock().unwrap_or_else(PoisonError::into_inner);
        match open.get_mut(&self.source) {
            Some(has) if *has > 1 => *has -= 1,
            _ => drop(open.remove(&self.source)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_source_has_its_share_and_gets_it_back() {
        let share = SourceShare::new(2);
        let source = |n: u8| IpAddr::from([192, 0, 2, n]);
        let first = share.begin(source(1));
        let second = share.begin(source(1));
        assert!(first.is_some() && second.is_some() && share.begin(source(1)).is_none());
        assert!(share.begin(source(2)).is_some(), "others are not held up");
        drop(first);
        assert!(share.begin(source(1)).is_some());
        drop(second);
        assert!(share.open.lock().unwrap().is_empty());
    }
}
