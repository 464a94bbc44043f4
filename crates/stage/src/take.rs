//! What a stand-in has received of one item, kept in a file with holes.

use anyhow::Context as _;
use std::fs::File;
use std::net::SocketAddrV4;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use crate::http::{self, HttpRequest};
use crate::judge::{self, Verdict};
use crate::persona::Persona;

/// An item being played.
#[derive(Debug)]
pub(crate) struct Take {
    /// Its title.
    pub title: String,
    /// Its MIME type.
    pub mime: String,
    /// Its bytes in all.
    pub size: u64,
    /// Its length in seconds, where told.
    pub seconds: Option<f64>,
    /// Bytes received in all.
    pub received: u64,
    place: (SocketAddrV4, String),
    kept: PathBuf,
    file: File,
}

impl Drop for Take {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.kept);
    }
}

/// Seconds that a player holds ahead of what it shows.
const HELD: f64 = 2.0;
/// The share of a file that is taken to start, and after a skip.
const SHARE: f64 = 0.25;
/// Where skipping ahead goes to.
const AHEAD: f64 = 0.55;
/// The same in a test piece, of which half a minute was played.
const JUMP: f64 = 0.7;

impl Take {
    /// Recognises the item as the persona does: HEAD, first bytes, the tail for the index.
    ///
    /// # Errors
    /// What the person before the screen would be told.
    pub(crate) async fn begin(
        persona: &Persona,
        title: &str,
        url: &str,
        mime: &str,
        seconds: Option<f64>,
    ) -> anyhow::Result<Take> {
        let place = http::split_url(url).context("the address cannot be understood")?;
        let head =
            http::fetch(persona.address, ask(persona, "HEAD", &place, None, mime), 0).await?;
        if head.status != 200 {
            anyhow::bail!("the server says {}", head.status);
        }
        if head.field("content-type") != Some(mime) {
            anyhow::bail!(
                "announced as {mime}, sent as {}",
                head.field("content-type").unwrap_or("nothing")
            );
        }
        let size =
            head.field("content-length").and_then(|l| l.parse().ok()).context("no length told")?;
        let name = format!("mostra-take-{}-{:x}", std::process::id(), rand_like(&place.1));
        let kept = std::env::temp_dir().join(name);
        let file = File::create(&kept)?;
        let mut take = Take {
            title: title.into(),
            mime: mime.into(),
            size,
            seconds,
            received: 0,
            place,
            kept,
            file,
        };
        if persona.play.first_bytes > 0 {
            take.get(persona, 0, persona.play.first_bytes.min(size)).await?;
            let tail = persona.play.tail_bytes.min(size);
            take.get(persona, size - tail, tail).await?;
        }
        Ok(take)
    }

    /// Takes a piece and keeps it.
    pub(crate) async fn get(
        &mut self,
        persona: &Persona,
        from: u64,
        length: u64,
    ) -> anyhow::Result<()> {
        let last = from + length - 1;
        let range = format!("bytes={from}-{last}");
        let answer = http::fetch(
            persona.address,
            ask(persona, "GET", &self.place, Some(&range), &self.mime),
            length,
        )
        .await?;
        if answer.status != 206 {
            anyhow::bail!("asked for a part, the server says {}", answer.status);
        }
        let told = answer.field("content-range").unwrap_or_default();
        if told != format!("bytes {from}-{last}/{}", self.size) {
            anyhow::bail!("asked for {range}, got {told}");
        }
        self.keep(from, &answer.body, length)
    }

    fn keep(&mut self, from: u64, bytes: &[u8], wanted: u64) -> anyhow::Result<()> {
        if (bytes.len() as u64) < wanted {
            anyhow::bail!("only {} of {wanted} bytes came", bytes.len());
        }
        self.received += bytes.len() as u64;
        Ok(self.file.write_all_at(bytes, from)?)
    }

    /// Plays from the beginning and judges what came.
    ///
    /// # Errors
    /// What the person before the screen would be told.
    pub(crate) async fn play(&mut self, persona: &Persona) -> anyhow::Result<Verdict> {
        if persona.play.ask_bytes == 0 || self.mime.starts_with("image/") {
            let request = ask(persona, "GET", &self.place, None, &self.mime);
            let answer = http::fetch(persona.address, request, self.size).await?;
            if answer.status != 200 {
                anyhow::bail!("the server says {}", answer.status);
            }
            self.keep(0, &answer.body, self.size)?;
            return self.judge(0.0, 5.0).await;
        }
        self.run(persona, 0, SHARE + 0.05).await?;
        let seconds = self.seconds.unwrap_or(10.0) * (SHARE - 0.05);
        self.judge(0.0, seconds).await
    }

    /// Goes to a later place and takes as much from there as fills a player's store.
    ///
    /// # Errors
    /// What the person before the screen would be told.
    pub(crate) async fn jump(&mut self, persona: &Persona) -> anyhow::Result<()> {
        let length = self.seconds.filter(|s| *s > 0.0).context("nothing to skip in")?;
        let from = (self.size as f64 * JUMP) as u64;
        let enough = (self.size as f64 * (12.0 / length).min(0.22)) as u64;
        let end = (from + enough).min(self.size);
        let mut at = from;
        while at < end {
            let piece = (1 << 20).min(end - at);
            self.get(persona, at, piece).await?;
            at += piece;
        }
        Ok(())
    }

    /// Plays for some seconds as a player does that holds a few seconds: no faster than it plays.
    ///
    /// # Errors
    /// What the person before the screen would be told.
    pub(crate) async fn watch(&mut self, persona: &Persona, seconds: u64) -> anyhow::Result<()> {
        let length = self.seconds.filter(|s| *s > 0.0).context("nothing to watch in")?;
        let rate = self.size as f64 / length;
        let began = Instant::now();
        let mut at = 0;
        while began.elapsed().as_secs() < seconds && at < self.size {
            let wanted = ((began.elapsed().as_secs_f64() + HELD) * rate) as u64;
            let wanted = wanted.min(self.size);
            if wanted > at {
                self.get(persona, at, wanted - at).await?;
                at = wanted;
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
        Ok(())
    }

    /// Skips ahead, plays on and judges what came.
    ///
    /// # Errors
    /// What the person before the screen would be told.
    pub(crate) async fn skip(&mut self, persona: &Persona) -> anyhow::Result<Verdict> {
        let seconds = self.seconds.context("nothing to skip in")?;
        self.run(persona, (self.size as f64 * AHEAD) as u64, SHARE).await?;
        // The place in bytes is only about the place in time: decode well inside.
        self.judge(seconds * (AHEAD + 0.12), seconds * 0.04).await
    }

    async fn run(&mut self, persona: &Persona, from: u64, share: f64) -> anyhow::Result<()> {
        let end = (from + (self.size as f64 * share) as u64).min(self.size);
        let mut at = from;
        while at < end {
            let length = persona.play.ask_bytes.min(end - at);
            self.get(persona, at, length).await?;
            at += length;
        }
        Ok(())
    }

    async fn judge(&self, from: f64, seconds: f64) -> anyhow::Result<Verdict> {
        let verdict = judge::decode(&self.kept, from, seconds).await?;
        let missing = match self.mime.split('/').next() {
            Some("audio") => verdict.sounds == 0,
            Some("video") => verdict.pictures == 0 || verdict.sounds == 0,
            _ => verdict.pictures == 0,
        };
        if missing { Err(anyhow::anyhow!("nothing could be decoded")) } else { Ok(verdict) }
    }
}

fn ask(
    persona: &Persona,
    method: &str,
    place: &(SocketAddrV4, String),
    range: Option<&str>,
    mime: &str,
) -> HttpRequest {
    let mode = if mime.starts_with("image/") { "Interactive" } else { "Streaming" };
    let mut request = HttpRequest::new(method, place.0, &place.1)
        .field("User-Agent", &persona.user_agent)
        .field("getcontentFeatures.dlna.org", "1")
        .field("transferMode.dlna.org", mode);
    if let Some(range) = range {
        request = request.field("Range", range);
    }
    request
}

/// A number from a text, to tell files apart.
fn rand_like(text: &str) -> u64 {
    use std::hash::{DefaultHasher, Hash, Hasher};
    let mut hasher = DefaultHasher::new();
    text.hash(&mut hasher);
    std::time::SystemTime::now().hash(&mut hasher);
    hasher.finish()
}
