//! The host: sleep, clock, names, PostgreSQL, ffmpeg, starting, versions.

use crate::not_now::NotNow;

use super::{Check, NetworkFacts, Outcome, bytes};

/// Whether the host goes to sleep.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SleepFacts {
    /// Whether the system can sleep at all; nothing where it does not tell.
    pub can: Option<bool>,
    /// Whether it has a lid.
    pub has_lid: bool,
    /// What closing the lid does: `suspend`, `ignore`.
    pub lid: Option<String>,
    /// What being idle does.
    pub idle: Option<String>,
}

/// PostgreSQL.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DatabaseFacts {
    /// Whether it answers.
    pub answers: bool,
    /// What waits to be saved, in words, and why.
    pub waiting: Vec<(String, NotNow)>,
    /// Rows that cannot be read: table and number, and why.
    pub unread: Vec<(String, String)>,
    /// How many rows were refused for themselves, and the file that holds them.
    pub refused: (u64, String),
    /// Its version.
    pub version: Option<String>,
    /// Bytes of the records.
    pub size: Option<u64>,
    /// Bytes free where it keeps them, of one on this host.
    pub free: Option<u64>,
}

/// ffmpeg and ffprobe.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FfmpegFacts {
    /// Its version.
    pub version: String,
    /// Its encoders of those that are used.
    pub has: Vec<String>,
    /// Those that it lacks.
    pub missing: Vec<String>,
}

/// The host.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HostFacts {
    /// What it calls itself.
    pub name: String,
    /// Names of people and accounts on it.
    pub people: Vec<String>,
    /// Whether its clock is set from elsewhere; nothing where the system does not tell.
    pub clock_set: Option<bool>,
    /// The year that it has.
    pub year: i32,
    /// Whether it goes to sleep.
    pub sleep: SleepFacts,
    /// PostgreSQL.
    pub database: DatabaseFacts,
    /// Bytes free for the service's own data.
    pub data_free: Option<u64>,
    /// ffmpeg; `None` where it is not there.
    pub ffmpeg: Option<FfmpegFacts>,
    /// What of confining the programs that read media this host does not enforce; nothing where
    /// all is.
    pub not_confined: Option<String>,
    /// Whether the service starts with the machine; nothing where no service manager tells.
    pub starts_with_machine: Option<bool>,
    /// The versions of all parts, by name.
    pub versions: Vec<(String, String)>,
    /// Sightings that were dropped under load.
    pub dropped: u64,
    /// Parts of the service that ended by themselves, and how many times.
    pub ended: Vec<(String, u32)>,
}

/// Bytes below which a disk is nearly full.
const LITTLE: u64 = 1_000_000_000;

pub(super) fn checks(facts: &HostFacts, network: &NetworkFacts) -> Vec<Check> {
    vec![
        sleep(&facts.sleep),
        clock(facts),
        name(facts, &network.name),
        database(facts),
        ffmpeg(facts.ffmpeg.as_ref()),
        confinement(facts.not_confined.as_deref()),
        starting(facts.starts_with_machine),
        proof(facts.dropped),
        parts(&facts.ended),
        versions(&facts.versions),
    ]
}

fn parts(ended: &[(String, u32)]) -> Check {
    let why =
        "A part that does not run, such as announcing, would be missed only by those who need it.";
    let check = Check::new("parts", "Parts of the service", why);
    if ended.is_empty() {
        return check.ok("All run.");
    }
    let named = ended.iter().map(|(part, times)| match times {
        1 => part.clone(),
        times => format!("{part} ({times} times)"),
    });
    let named: Vec<String> = named.collect();
    check
        .outcome(
            Outcome::Attention,
            format!("Ended by itself and started anew: {}.", named.join(", ")),
        )
        .remedy("That is a fault of this service. Report it with a support archive.")
}

fn sleep(facts: &SleepFacts) -> Check {
    let why = "A computer that sleeps serves nobody; a film stops in the middle.";
    let check = Check::new("sleep", "Sleep", why);
    let sleeps = |action: &Option<String>| {
        action.as_deref().is_some_and(|action| !matches!(action, "ignore" | "lock"))
    };
    let masking =
        "sudo systemctl mask sleep.target suspend.target hibernate.target hybrid-sleep.target";
    match facts.can {
        None => check
            .outcome(Outcome::Unknown, "The system does not tell whether it sleeps.")
            .remedy("Look in its settings for energy: it must stay on while somebody watches."),
        Some(false) => check.ok("It does not sleep."),
        Some(true) if sleeps(&facts.idle) => check
            .outcome(Outcome::Attention, "This computer goes to sleep when nobody uses it.")
            .remedy("Have it stay awake.")
            .command(masking),
        Some(true) if facts.has_lid && sleeps(&facts.lid) => check
            .outcome(Outcome::Attention, "This computer goes to sleep when its lid is closed.")
            .remedy("Leave the lid open, or have it stay awake.")
            .command(masking),
        Some(true) => {
            check.ok("It sleeps only when somebody tells it to, as far as the system says.")
        }
    }
}

fn clock(facts: &HostFacts) -> Check {
    let why = "Proof says when something was seen, and certificates count only at the right time.";
    let check = Check::new("clock", "Clock", why);
    if facts.year < 2026 {
        return check
            .outcome(Outcome::Attention, format!("The clock says that the year is {}.", facts.year))
            .remedy("Set it, and have it kept right from the network.")
            .command("sudo timedatectl set-ntp true");
    }
    match facts.clock_set {
        Some(true) => check.ok("It is kept right from the network."),
        Some(false) => check
            .outcome(Outcome::Attention, "The clock is not kept right from the network.")
            .remedy("Have it kept right.")
            .command("sudo timedatectl set-ntp true"),
        None => check
            .outcome(Outcome::Unknown, "The system does not tell whether it is kept right.")
            .remedy("Compare it with another clock."),
    }
}

fn name(facts: &HostFacts, house: &str) -> Check {
    let why = "Everybody in the network reads the house's name, guests as well.";
    let check = Check::new("name", "The house's name", why);
    let words: Vec<String> = house
        .split(|c: char| !c.is_alphanumeric())
        .filter(|word| word.chars().count() > 2)
        .map(str::to_lowercase)
        .collect();
    let given = |name: &str| {
        let name = name.to_lowercase();
        !name.is_empty() && words.contains(&name)
    };
    let machine = facts.name.split('.').next().unwrap_or_default();
    if let Some(person) = facts.people.iter().find(|person| given(person)) {
        return check
            .outcome(
                Outcome::Attention,
                format!("{house:?} gives away {person:?}, an account here."),
            )
            .remedy("Choose a name that says nothing of people.")
            .command("mostra house name NAME");
    }
    if given(machine) && !["mostra", "house", "server"].contains(&machine.to_lowercase().as_str()) {
        return check
            .outcome(Outcome::Attention, format!("{house:?} gives away this computer's name."))
            .remedy("Choose a name that says nothing of the computer.")
            .command("mostra house name NAME");
    }
    check.ok(format!("{house:?} gives nothing away."))
}

fn database(facts: &HostFacts) -> Check {
    let why = "Decisions, proof and what was scanned are kept there.";
    let check = Check::new("records", "PostgreSQL", why);
    let database = &facts.database;
    if !database.answers {
        return check
            .outcome(
                Outcome::Stops,
                "PostgreSQL does not answer. Watching goes on; nothing can be saved.",
            )
            .remedy("Start it again, and look at its log.")
            .command("sudo systemctl restart postgresql");
    }
    // Devices are served all the same. The same cause is told once.
    if let Some((_, cause)) = database.waiting.first() {
        let same = database.waiting.iter().filter(|(_, other)| other == cause);
        let what: Vec<&str> = same.map(|(what, _)| what.as_str()).collect();
        return check
            .outcome(
                Outcome::Attention,
                format!("{} Not saved yet: {}.", cause.sentence(), what.join(", ")),
            )
            .remedy(format!("{} What waits is saved by itself then.", cause.remedy()));
    }
    if let Some(measured) = set_aside(database) {
        return check.outcome(Outcome::Attention, measured).remedy(
            "All else goes on without them. A later version may read them; if none wrote them, report this with a support archive.",
        );
    }
    let mut words = vec![match &database.version {
        Some(version) => format!("Version {version} answers"),
        None => "It answers".to_owned(),
    }];
    words.extend(database.size.map(|size| format!("the records take {}", bytes(size))));
    words.extend(database.free.map(|free| format!("{} free there", bytes(free))));
    words.extend(facts.data_free.map(|free| format!("{} free for pictures", bytes(free))));
    let measured = format!("{}.", words.join(", "));
    match [database.free, facts.data_free].into_iter().flatten().min() {
        Some(free) if free < LITTLE => check
            .outcome(Outcome::Attention, measured)
            .remedy("The disk is nearly full. Make room before nothing can be saved any more."),
        _ => check.ok(measured),
    }
}

/// Rows named in a sentence.
const NAMED: usize = 5;

/// Which rows of the records are set aside, if any are.
fn set_aside(database: &DatabaseFacts) -> Option<String> {
    let mut sentences = Vec::new();
    let unread = database.unread.len();
    if unread > 0 {
        let named = database.unread.iter().take(NAMED).map(|(row, why)| format!("{row} ({why})"));
        let named: Vec<String> = named.collect();
        let more =
            if unread > NAMED { format!(" and {} more", unread - NAMED) } else { String::new() };
        sentences.push(format!(
            "Set aside, as this version cannot read it: {}{more}.",
            named.join(", ")
        ));
    }
    let (refused, file) = &database.refused;
    if *refused > 0 {
        sentences.push(format!("Refused by PostgreSQL and kept in {file}: {refused}."));
    }
    (!sentences.is_empty()).then(|| sentences.join(" "))
}

fn ffmpeg(facts: Option<&FfmpegFacts>) -> Check {
    let why = "It reads files that the house's own readers cannot, and makes test pieces.";
    let check = Check::new("ffmpeg", "ffmpeg", why);
    let Some(facts) = facts else {
        return check
            .outcome(Outcome::Attention, "ffmpeg is not there.")
            .remedy("Install it.")
            .command("sudo apt-get install ffmpeg");
    };
    let writes = match facts.has.is_empty() {
        true => String::new(),
        false => format!(" It writes {}.", facts.has.join(", ")),
    };
    let measured = format!("Version {}.{writes}", facts.version);
    if facts.missing.is_empty() {
        return check.ok(measured);
    }
    check
        .outcome(
            Outcome::Attention,
            format!("ffmpeg lacks {}. {measured}", facts.missing.join(", ")),
        )
        .remedy("Install Debian's own build, which has them.")
        .command("sudo apt-get install --reinstall ffmpeg")
}

fn confinement(lacking: Option<&str>) -> Check {
    let why = "Media files come from strangers, and the programs that read them have faults. Confined, \
               one that a file takes over reads nothing else and reaches no network.";
    let check = Check::new("confinement", "Programs that read media", why);
    match lacking {
        None => check.ok("Confined: each reads its one file, and reaches no network."),
        Some(lacking) => check
            .outcome(Outcome::Attention, format!("Not confined: {lacking}."))
            .remedy(
                "The kernel needs Landlock (Linux 5.19 or newer), and whatever runs the service must \
                 let it use landlock_create_ruleset, landlock_add_rule, landlock_restrict_self and \
                 seccomp.",
            ),
    }
}

fn starting(starts: Option<bool>) -> Check {
    let why = "After a power cut the house should be back without anybody doing something.";
    let check = Check::new("start", "Starts with the computer", why);
    match starts {
        Some(true) => check.ok("It starts with the computer."),
        Some(false) => check
            .outcome(Outcome::Attention, "The house does not start with the computer.")
            .remedy("Have it started.")
            .command("sudo systemctl enable mostrad"),
        None => check
            .outcome(Outcome::Unknown, "It was started by hand, or the system does not tell.")
            .remedy("Install the package, which starts it with the computer."),
    }
}

fn proof(dropped: u64) -> Check {
    let why = "What was not kept cannot prove anything.";
    let check = Check::new("sightings", "Sightings", why);
    match dropped {
        0 => check.ok("All of them were kept."),
        n => check
            .outcome(
                Outcome::Attention,
                format!("{n} sightings were dropped under load: proof may be incomplete."),
            )
            .remedy("Repeat on the device what is not confirmed."),
    }
}

fn versions(all: &[(String, String)]) -> Check {
    let why = "Whoever helps asks for them first.";
    let words: Vec<String> =
        all.iter().map(|(name, version)| format!("{name} {version}")).collect();
    let measured =
        if words.is_empty() { "None is known.".into() } else { format!("{}.", words.join(", ")) };
    Check::new("versions", "Versions", why).ok(measured)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sound() -> HostFacts {
        HostFacts {
            name: "attic-pc.lan".into(),
            people: vec!["marlo".into()],
            clock_set: Some(true),
            year: 2026,
            sleep: SleepFacts { can: Some(false), ..SleepFacts::default() },
            database: DatabaseFacts { answers: true, ..DatabaseFacts::default() },
            ffmpeg: Some(FfmpegFacts {
                version: "5".into(),
                has: vec!["aac".into()],
                missing: vec![],
            }),
            starts_with_machine: Some(true),
            ..HostFacts::default()
        }
    }

    fn outcome(change: impl FnOnce(&mut HostFacts), house: &str, id: &str) -> Outcome {
        let mut facts = sound();
        change(&mut facts);
        let network = NetworkFacts { name: house.into(), ..NetworkFacts::default() };
        checks(&facts, &network).into_iter().find(|check| check.id == id).unwrap().outcome
    }

    #[test]
    fn a_sound_host_is_ok_and_each_trouble_is_told() {
        let network = NetworkFacts { name: "Pellworth Light".into(), ..NetworkFacts::default() };
        for check in checks(&sound(), &network) {
            assert_eq!(check.outcome, Outcome::Ok, "{}: {}", check.id, check.measured);
        }
        let attention =
            |change: fn(&mut HostFacts), id| outcome(change, "P", id) == Outcome::Attention;
        assert!(attention(|f| f.clock_set = Some(false), "clock"));
        assert!(attention(|f| f.year = 1970, "clock"));
        assert!(attention(|f| f.ffmpeg = None, "ffmpeg"));
        assert!(attention(|f| f.not_confined = Some("no Landlock".into()), "confinement"));
        assert!(attention(|f| f.starts_with_machine = Some(false), "start"));
        assert!(attention(|f| f.dropped = 3, "sightings"));
        assert!(attention(|f| f.data_free = Some(1000), "records"));
        assert!(attention(
            |f| f.sleep = SleepFacts {
                can: Some(true),
                idle: Some("suspend".into()),
                ..SleepFacts::default()
            },
            "sleep"
        ));
        assert_eq!(outcome(|f| f.database.answers = false, "P", "records"), Outcome::Stops);
        let lid = |has_lid| {
            let lid = Some("suspend".into());
            let sleep = SleepFacts { can: Some(true), has_lid, lid, idle: Some("ignore".into()) };
            outcome(|f| f.sleep = sleep, "P", "sleep")
        };
        assert_eq!((lid(true), lid(false)), (Outcome::Attention, Outcome::Ok));
    }

    #[test]
    fn a_name_that_gives_away_people_or_the_computer_is_pointed_out() {
        let of = |house: &str| outcome(|_| {}, house, "name");
        assert_eq!(of("Marlo's films"), Outcome::Attention);
        assert_eq!(
            of("Films on attic-pc"),
            Outcome::Ok,
            "no word of it is the computer's whole name"
        );
        assert_eq!(of("Pellworth Light"), Outcome::Ok);
        let named = |facts: &mut HostFacts| facts.name = "pellworth".into();
        assert_eq!(outcome(named, "Pellworth Light", "name"), Outcome::Attention);
    }
}
