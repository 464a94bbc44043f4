//! The socket by which people on the host reach the house: the kernel says who asks, so that no
//! password and no token is needed, and none can be stolen by a local user.

use std::any::Any;
use std::net::SocketAddr;
use std::os::unix::fs::{FileTypeExt as _, PermissionsExt as _};
use std::os::unix::net::UnixListener;
use std::path::Path;

use actix_web::dev::Extensions;
use mostra_core::account::SignedIn;
use nix::unistd::{Group, Uid, User, chown, geteuid, getgrouplist};

/// The group whose members may do on the host what an account may.
pub(crate) const GROUP: &str = "mostra-admin";

/// Who asks by the socket.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct PeerUser(pub u32);

/// Notes who connected.
pub(crate) fn note_peer(stream: &dyn Any, data: &mut Extensions) {
    if let Some(stream) = stream.downcast_ref::<tokio::net::UnixStream>()
        && let Ok(peer) = stream.peer_cred()
    {
        data.insert(PeerUser(peer.uid()));
    }
}

impl PeerUser {
    /// Somebody who may do what an account may: root, the service's own user, and the members of
    /// the group.
    pub(crate) fn signed_in(self) -> Option<SignedIn> {
        let PeerUser(uid) = self;
        let known = User::from_uid(Uid::from_raw(uid)).ok().flatten();
        let member = || {
            let group = Group::from_name(GROUP).ok().flatten()?.gid;
            let known = known.as_ref()?;
            let name = std::ffi::CString::new(known.name.as_str()).ok()?;
            let groups = getgrouplist(&name, known.gid).ok()?;
            groups.contains(&group).then_some(())
        };
        let may = uid == 0 || uid == geteuid().as_raw() || member().is_some();
        let name = known.as_ref().map_or_else(|| uid.to_string(), |known| known.name.clone());
        may.then(|| SignedIn::on_host(&name))
    }
}

/// The user of this host whose connection to us over loopback that is, as the kernel lists it.
pub(crate) fn tcp_owner(peer: SocketAddr, local: SocketAddr) -> Option<u32> {
    owner_in(&std::fs::read_to_string("/proc/net/tcp").ok()?, peer, local)
}

fn owner_in(list: &str, peer: SocketAddr, local: SocketAddr) -> Option<u32> {
    let written = |address: SocketAddr| match address {
        SocketAddr::V4(v4) => {
            let number = u32::from_ne_bytes(v4.ip().octets());
            Some(format!("{number:08X}:{:04X}", v4.port()))
        }
        SocketAddr::V6(_) => None,
    };
    let (from, to) = (written(peer)?, written(local)?);
    list.lines().skip(1).find_map(|line| {
        let mut fields = line.split_whitespace().skip(1);
        let fits = fields.next() == Some(&*from) && fields.next() == Some(&*to);
        // After these: state, queues, timer, retransmits, and the user.
        fits.then(|| fields.nth(4)?.parse().ok()).flatten()
    })
}

/// Why there is no socket.
#[derive(Debug, thiserror::Error)]
#[error("the socket {path} for people on this host cannot be made: {why}")]
pub struct SocketError {
    path: String,
    why: String,
}

/// Makes the socket, in the place of one that a service before left.
///
/// # Errors
/// [`SocketError`] where that is not possible.
pub fn bind_socket(path: &Path) -> Result<UnixListener, SocketError> {
    let failed = |why: String| SocketError { path: path.to_string_lossy().into_owned(), why };
    match std::fs::symlink_metadata(path) {
        Ok(found) if found.file_type().is_socket() => {
            std::fs::remove_file(path).map_err(|error| failed(error.to_string()))?;
        }
        Ok(_) => return Err(failed("something else is there".into())),
        Err(_) => {}
    }
    let listener = UnixListener::bind(path).map_err(|error| failed(error.to_string()))?;
    // Who may is asked of the kernel for each connection; others need not even get there.
    let group = Group::from_name(GROUP).ok().flatten().map(|group| group.gid);
    let given = group.is_some_and(|group| chown(path, None, Some(group)).is_ok());
    let mode = if given { 0o660 } else { 0o600 };
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode))
        .map_err(|error| failed(error.to_string()))?;
    Ok(listener)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_kernel_says_whose_a_connection_over_loopback_is() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let local = listener.local_addr().unwrap();
        let stream = std::net::TcpStream::connect(local).unwrap();
        let peer = stream.local_addr().unwrap();
        assert_eq!(tcp_owner(peer, local), Some(geteuid().as_raw()));
        assert_eq!(tcp_owner(local, local), None);
        let list = "sl local_address rem_address st tx rx tr tm retr uid\n \
             0: 0100007F:9C40 0100007F:1DD9 01 00000000:00000000 00:00000000 00000000  1001 0 1";
        let at = |port: u16| SocketAddr::from(([127, 0, 0, 1], port));
        assert_eq!(owner_in(list, at(40_000), at(7641)), Some(1001));
        assert_eq!(owner_in(list, at(40_001), at(7641)), None);
    }

    #[test]
    fn a_socket_takes_the_place_of_an_old_one_and_of_nothing_else() {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("console.sock");
        drop(bind_socket(&path).unwrap());
        let socket = bind_socket(&path).unwrap();
        let mode = std::fs::metadata(&path).unwrap().permissions().mode();
        assert_eq!(mode & 0o007, 0, "others do not get there");
        drop(socket);
        std::fs::remove_file(&path).unwrap();
        std::fs::write(&path, b"notes").unwrap();
        assert!(bind_socket(&path).is_err());
        assert_eq!(std::fs::read(&path).unwrap(), b"notes");
    }
}
