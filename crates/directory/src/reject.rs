//! Ending a connection that is not served any further, with the reason.

use std::io;
use std::net::Shutdown;
use std::time::Duration;

use actix_web::http::StatusCode;
use actix_web::rt::net::TcpStream;
use socket2::SockRef;
use tokio::time::timeout;

use mostra_app::network::server_field;

/// How long the other side may take to read why.
const PATIENCE: Duration = Duration::from_secs(2);
/// Bytes of it that are read and dropped.
const UNREAD: usize = 256 << 10;

/// Answers with a status and nothing else, and says that this was all. `field` is a whole line.
pub(crate) async fn reject_and_close(stream: &TcpStream, status: StatusCode, field: &str) {
    let answer = format!(
        "HTTP/1.1 {status}\r\n{field}Content-Length: 0\r\nConnection: close\r\nServer: {}\r\n\r\n",
        server_field()
    );
    let told = async {
        // A few bytes, for which there is room.
        stream.writable().await?;
        stream.try_write(answer.as_bytes())?;
        SockRef::from(stream).shutdown(Shutdown::Write)?;
        // Closed with something unread, the answer would be lost on the way.
        let (mut unread, mut left) = ([0; 1024], UNREAD);
        while left > 0 {
            stream.readable().await?;
            match stream.try_read(&mut unread) {
                Ok(0) => break,
                Ok(count) => left = left.saturating_sub(count),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                Err(error) => return Err(error),
            }
        }
        io::Result::Ok(())
    };
    let _ = timeout(PATIENCE, told).await;
}
