//! Makes the media of Pellworth Light: every picture, sound and film is drawn and played by
//! formulas, so nothing in it belongs to anybody else. Needs Debian's ffmpeg.
//!
//! `cargo run -p make-media -- demo/media` writes the whole set anew.

mod exif;

use std::error::Error;
use std::path::Path;
use std::process::Command;

/// A film: path, title, seconds, picture formula, sound formula, whether the index goes first.
type Film = (&'static str, &'static str, u32, &'static str, &'static str, bool);

const DAWN: &str = "gradients=s=640x360:r=25:c0=0x1d2b50:c1=0xf4a261:c2=0xfbefd6:c3=0x0c6660:n=4:speed=0.02:x0=0:y0=0:x1=0:y1=359,\
drawbox=x=470:y=120:w=36:h=180:c=0xfffdf8:t=fill,drawbox=x=464:y=100:w=48:h=24:c=0x9b3420:t=fill,\
drawbox=x=0:y=300:w=640:h=60:c=0x1d2b30:t=fill,noise=alls=6:allf=t";
const LAMP: &str = "gradients=s=640x360:r=25:c0=0x0c6660:c1=0xfbefd6:c2=0x8a5a00:n=3:speed=0.06:type=radial:x0=320:y0=180:x1=0:y1=0,\
drawbox=x=310:y=0:w=20:h=360:c=0x1d2b30:t=fill,noise=alls=4:allf=t";
const FOG: &str = "gradients=s=480x270:r=25:c0=0xdcd6c8:c1=0x5c6b6e:c2=0xf6f4ee:n=3:speed=0.03,\
drawbox=x=200:y=90:w=30:h=140:c=0x1d2b30@0.6:t=fill,noise=alls=3:allf=t";

const SURF: &str = "aevalsrc=0.25*random(0)*(0.4+0.6*abs(sin(0.7*t)))|0.25*random(1)*(0.4+0.6*abs(sin(0.7*t+0.8))):s=48000";
const HUM: &str = "aevalsrc=0.2*sin(2*PI*110*t)*(0.6+0.4*sin(2*PI*0.25*t))|0.2*sin(2*PI*165*t)*(0.6+0.4*sin(2*PI*0.2*t)):s=48000";
const HORN: &str = "aevalsrc=0.5*sin(2*PI*(140-20*mod(t\\,5))*t)*lt(mod(t\\,5)\\,2)|0.5*sin(2*PI*(140-20*mod(t\\,5))*t)*lt(mod(t\\,5)\\,2):s=48000";

const FILMS: [Film; 5] = [
    // The index at the end, as cameras write it: players must fetch the tail first.
    ("Films/Harbour at dawn.mp4", "Harbour at dawn", 48, DAWN, SURF, false),
    ("Films/Lamp-room tour.mp4", "Lamp-room tour", 36, LAMP, HUM, true),
    (
        "Films/Fog signal/Fog signal S01E01 First blast.mp4",
        "Fog signal 1: First blast",
        24,
        FOG,
        HORN,
        true,
    ),
    (
        "Films/Fog signal/Fog signal S01E02 The diaphone.mp4",
        "Fog signal 2: The diaphone",
        24,
        FOG,
        HORN,
        true,
    ),
    ("Films/Fog signal/Fog signal S01E03 Silence.mp4", "Fog signal 3: Silence", 24, FOG, HUM, true),
];

/// A track: path, title, artist, album, date, seconds, bit rate, formula.
type Track = (
    &'static str,
    &'static str,
    &'static str,
    &'static str,
    &'static str,
    u32,
    &'static str,
    &'static str,
);

const CHOIR: &str = "aevalsrc=0.12*(sin(2*PI*220*t)+sin(2*PI*277.2*t)+sin(2*PI*329.6*t))*(0.7+0.3*sin(2*PI*0.1*t))|0.12*(sin(2*PI*220*t)+sin(2*PI*277.2*t)+sin(2*PI*440*t))*(0.7+0.3*sin(2*PI*0.13*t)):s=44100";
const CHOIR_LOW: &str = "aevalsrc=0.14*(sin(2*PI*146.8*t)+sin(2*PI*220*t)+sin(2*PI*174.6*t))*(0.7+0.3*sin(2*PI*0.09*t))|0.14*(sin(2*PI*146.8*t)+sin(2*PI*293.7*t))*(0.7+0.3*sin(2*PI*0.11*t)):s=44100";
const FIDDLE: &str = "aevalsrc=0.2*sin(2*PI*(392+98*floor(mod(2*t\\,4)))*t+3*sin(2*PI*5*t))|0.2*sin(2*PI*(392+98*floor(mod(2*t\\,4)))*t):s=44100";
const VOICE: &str = "aevalsrc=0.25*sin(2*PI*120*t)*gt(random(0)\\,0.3)*abs(sin(2*PI*3*t)):s=22050";

const TRACKS: [Track; 5] = [
    (
        "Sound/Halyard Choir/Slack Water/01 Slack Water.mp3",
        "Slack Water",
        "Halyard Choir",
        "Slack Water",
        "2019-05-04",
        40,
        "128k",
        CHOIR,
    ),
    (
        "Sound/Halyard Choir/Slack Water/02 Ebb.mp3",
        "Ebb",
        "Halyard Choir",
        "Slack Water",
        "2019-05-04",
        36,
        "128k",
        CHOIR_LOW,
    ),
    (
        "Sound/Halyard Choir/Slack Water/10 Flood.mp3",
        "Flood",
        "Halyard Choir",
        "Slack Water",
        "2019-05-04",
        36,
        "128k",
        CHOIR,
    ),
    (
        "Sound/Orla Venn/Ropework/01 Bowline.mp3",
        "Bowline",
        "Orla Venn",
        "Ropework",
        "2021",
        40,
        "160k",
        FIDDLE,
    ),
    (
        "Sound/Night log.mp3",
        "Night log",
        "Keeper of Pellworth Light",
        "",
        "2024-11-02",
        60,
        "64k",
        VOICE,
    ),
];

/// A picture: path, date taken, size, sky, sea, noise, tower's place.
type Picture = (&'static str, &'static str, (u32, u32), &'static str, &'static str, u32, u32);

const PICTURES: [Picture; 9] = [
    (
        "Pictures/Storm/Storm 1.jpg",
        "2023:01:14 15:40:12",
        (1600, 1066),
        "0x2b3a4a",
        "0x14202a",
        26,
        300,
    ),
    (
        "Pictures/Storm/Storm 2.jpg",
        "2023:01:14 15:52:03",
        (1600, 1066),
        "0x3a4650",
        "0x101a20",
        30,
        900,
    ),
    (
        "Pictures/Storm/Storm 10.jpg",
        "2023:01:14 16:20:47",
        (1066, 1600),
        "0x4a4a52",
        "0x18242c",
        28,
        500,
    ),
    (
        "Pictures/Tides/Spring tide.jpg",
        "2022:03:19 06:31:00",
        (1600, 1200),
        "0xbcd4dc",
        "0x3a7a80",
        16,
        1100,
    ),
    (
        "Pictures/Tides/Neap tide.jpg",
        "2022:03:27 18:02:30",
        (1600, 1200),
        "0xe8c890",
        "0x4a6a70",
        16,
        200,
    ),
    (
        "Pictures/Tides/Low water mark.jpg",
        "2022:03:27 18:40:11",
        (1280, 960),
        "0xd8d0c0",
        "0x6a7a78",
        14,
        640,
    ),
    (
        "Pictures/Keepers/Keeper Ansgar Toll.jpg",
        "2024:06:01 05:12:30",
        (960, 1280),
        "0xe8dcc8",
        "0x8a5a00",
        12,
        400,
    ),
    (
        "Pictures/Keepers/Keeper Mirela Stroud.jpg",
        "2024:06:01 05:20:18",
        (960, 1280),
        "0xd8e4e0",
        "0x0c6660",
        12,
        420,
    ),
    (
        "Pictures/Keepers/The boat crew.jpg",
        "2024:06:02 11:05:59",
        (1400, 933),
        "0xc8dce8",
        "0x9b3420",
        14,
        700,
    ),
];

const SUBTITLES: &str = "1\n00:00:01,000 --> 00:00:06,000\nOne hundred and twelve steps up.\n\n\
2\n00:00:08,000 --> 00:00:14,000\nThis is the lamp. It has not gone out since 1871.\n\n\
3\n00:00:16,000 --> 00:00:24,000\nAnd this is the view on a clear day.\n";

fn main() -> Result<(), Box<dyn Error>> {
    let target = std::env::args().nth(1).unwrap_or_else(|| "demo/media".into());
    let target = Path::new(&target);
    for (path, title, seconds, picture, sound, index_first) in FILMS {
        film(&place(target, path)?, title, seconds, picture, sound, index_first)?;
    }
    for track in TRACKS {
        let path = place(target, track.0)?;
        sound(&path, &track)?;
    }
    for (path, taken, size, sky, sea, noise, tower) in PICTURES {
        let path = place(target, path)?;
        picture(&path, size, sky, sea, noise, tower)?;
        let tagged = exif::with_date(&std::fs::read(&path)?, taken).ok_or("not a JPEG")?;
        std::fs::write(&path, tagged)?;
    }
    std::fs::write(place(target, "Films/Lamp-room tour.srt")?, SUBTITLES.replace('\n', "\r\n"))?;
    // Formats that later versions read; until then they show what a folder leaves out.
    run(
        &[
            "-f",
            "lavfi",
            "-t",
            "6",
            "-i",
            FIDDLE,
            "-metadata",
            "title=Sheet bend",
            "-metadata",
            "artist=Orla Venn",
        ],
        &place(target, "Sound/Orla Venn/Ropework/02 Sheet bend.flac")?,
    )?;
    run(
        &["-f", "lavfi", "-t", "4", "-i", VOICE, "-ac", "1"],
        &place(target, "Sound/Bell test.wav")?,
    )?;
    run(
        &[
            "-f",
            "lavfi",
            "-i",
            "color=c=0xf6f4ee:s=640x400,drawbox=x=60:y=180:w=520:h=40:c=0x0c6660:t=fill",
            "-frames:v",
            "1",
        ],
        &place(target, "Pictures/Tides/Tide table.png")?,
    )?;
    Ok(())
}

fn place(target: &Path, path: &str) -> Result<std::path::PathBuf, Box<dyn Error>> {
    let path = target.join(path);
    std::fs::create_dir_all(path.parent().ok_or("no folder")?)?;
    Ok(path)
}

fn run(arguments: &[&str], output: &Path) -> Result<(), Box<dyn Error>> {
    let status = Command::new("ffmpeg")
        .args(["-hide_banner", "-loglevel", "error", "-y"])
        .args(arguments)
        // The same input gives the same bytes.
        .args(["-fflags", "+bitexact", "-flags", "+bitexact", "-map_metadata:s", "-1"])
        .arg(output)
        .status()?;
    if status.success() {
        Ok(())
    } else {
        Err(format!("ffmpeg failed for {}", output.display()).into())
    }
}

fn film(
    path: &Path,
    title: &str,
    seconds: u32,
    picture: &str,
    sound: &str,
    index_first: bool,
) -> Result<(), Box<dyn Error>> {
    let (seconds, title) = (seconds.to_string(), format!("title={title}"));
    let mut arguments = vec![
        "-f", "lavfi", "-t", &seconds, "-i", picture, "-f", "lavfi", "-t", &seconds, "-i", sound,
    ];
    arguments.extend([
        "-c:v",
        "libx264",
        "-profile:v",
        "main",
        "-level",
        "3.0",
        "-pix_fmt",
        "yuv420p",
        "-g",
        "50",
    ]);
    arguments.extend(["-b:v", "220k", "-maxrate", "400k", "-bufsize", "800k", "-threads", "1"]);
    arguments.extend(["-c:a", "aac", "-b:a", "64k", "-ac", "2", "-metadata", &title]);
    if index_first {
        arguments.extend(["-movflags", "+faststart"]);
    }
    run(&arguments, path)
}

fn sound(path: &Path, track: &Track) -> Result<(), Box<dyn Error>> {
    let (_, title, artist, album, date, seconds, rate, formula) = track;
    let seconds = seconds.to_string();
    let tags = [("title", title), ("artist", artist), ("album", album), ("date", date)];
    let tags: Vec<String> =
        tags.iter().filter(|(_, v)| !v.is_empty()).map(|(n, v)| format!("{n}={v}")).collect();
    let mut arguments =
        vec!["-f", "lavfi", "-t", &seconds, "-i", formula, "-c:a", "libmp3lame", "-b:a", rate];
    for tag in &tags {
        arguments.extend(["-metadata", tag]);
    }
    run(&arguments, path)
}

fn picture(
    path: &Path,
    (w, h): (u32, u32),
    sky: &str,
    sea: &str,
    noise: u32,
    tower: u32,
) -> Result<(), Box<dyn Error>> {
    let (horizon, top) = (h * 2 / 3, h / 4);
    let (wide, door) = (w / 14, w / 40);
    let drawing = format!(
        "gradients=s={w}x{h}:c0={sky}:c1=0xfbefd6:n=2:x0=0:y0=0:x1=0:y1={h},\
         drawbox=x=0:y={horizon}:w={w}:h={}:c={sea}:t=fill,\
         drawbox=x={tower}:y={top}:w={wide}:h={}:c=0xfffdf8:t=fill,\
         drawbox=x={tower}:y={}:w={wide}:h={}:c=0x9b3420:t=fill,\
         drawbox=x={}:y={}:w={}:h={}:c=0xf0c040:t=fill,\
         drawbox=x={}:y={}:w={door}:h={}:c=0x1d2b30:t=fill,noise=alls={noise}:all_seed={tower}",
        h - horizon,
        horizon - top + h / 30,
        top + h / 8,
        h / 14,
        tower.saturating_sub(wide / 8),
        top.saturating_sub(h / 20),
        wide + wide / 4,
        h / 20,
        tower + wide / 2 - door / 2,
        horizon - h / 24,
        h / 16,
    );
    run(
        &["-f", "lavfi", "-i", &drawing, "-frames:v", "1", "-pix_fmt", "yuvj420p", "-q:v", "5"],
        path,
    )
}
