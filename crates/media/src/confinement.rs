//! What a program that reads foreign media may touch (SEC-15): the one file that is open for it, the
//! libraries, data and fonts of the system, its own executable file, and an empty directory where it
//! writes. Landlock holds it to these files. A seccomp filter refuses sockets, tracing, namespaces,
//! and the ways around Landlock that older kernels leave open.
//!
//! Both hold for the thread that enters them and for what it starts, so a thread that only starts
//! the program enters them.

use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use landlock::{
    ABI, Access as _, AccessFs, AccessNet, BitFlags, LandlockStatus, PathBeneath, PathFd, Ruleset,
    RulesetAttr as _, RulesetCreated, RulesetCreatedAttr as _, RulesetError, RulesetStatus, Scope,
    path_beneath_rules,
};
use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter,
    SeccompRule, TargetArch,
};

/// The newest interface of Landlock that is used where the kernel has it.
const NEWEST: ABI = ABI::V6;
/// The oldest one that closes everything together with the seccomp filter.
const NEEDED: ABI = ABI::V2;

/// What of the system every program may read.
const SYSTEM: [&str; 9] = [
    "/usr/lib",
    "/usr/lib64",
    "/usr/local/lib",
    "/usr/share",
    "/lib",
    "/lib64",
    "/etc/ld.so.cache",
    "/etc/fonts",
    "/dev/urandom",
];
/// What starts a program that is linked with libraries, by kind of processor.
const LOADERS: [&str; 6] = [
    "/lib64/ld-linux-x86-64.so.2",
    "/lib/ld-linux-aarch64.so.1",
    "/lib/ld-linux-armhf.so.3",
    "/lib/ld-linux-riscv64-lp64d.so.1",
    "/lib64/ld64.so.2",
    "/lib/ld-linux.so.2",
];

/// What one program may touch beyond what every program may.
#[derive(Default)]
pub(crate) struct Allowed {
    /// Open files that it may open once more by their descriptors.
    pub(crate) files: Vec<OwnedFd>,
    /// What it may execute.
    pub(crate) programs: Vec<PathBuf>,
    /// A directory where it may make, write and remove files.
    pub(crate) directory: Option<PathBuf>,
    /// Whether it may end the programs that it starts.
    pub(crate) ends_others: bool,
}

/// How far programs that read media are confined on this host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Confinement {
    /// As far as the module's doc says.
    Whole,
    /// Less; what is missing, in words.
    Lacking(String),
}

/// How far programs that read media are confined on this host: tried once, on a thread of its own.
pub fn confinement() -> Confinement {
    static TRIED: OnceLock<Confinement> = OnceLock::new();
    TRIED
        .get_or_init(|| std::thread::spawn(tried).join().unwrap_or_else(|_| lacking("a thread")))
        .clone()
}

fn lacking(what: &str) -> Confinement {
    Confinement::Lacking(what.to_owned())
}

/// Confines this thread and tries what must not work any more.
fn tried() -> Confinement {
    let entered = enter(&Allowed::default());
    if entered != Confinement::Whole {
        return entered;
    }
    if File::open("/etc/passwd").is_ok() {
        return lacking("Landlock refuses nothing");
    }
    let socket = std::net::UdpSocket::bind((std::net::Ipv4Addr::LOCALHOST, 0));
    if socket.is_ok() || std::os::unix::net::UnixDatagram::unbound().is_ok() {
        return lacking("the seccomp filter refuses nothing");
    }
    Confinement::Whole
}

/// Confines this thread and all that it starts, as far as the kernel can.
pub(crate) fn enter(allowed: &Allowed) -> Confinement {
    let files = match restrict_files(allowed) {
        Ok(Confinement::Whole) => None,
        Ok(Confinement::Lacking(why)) => Some(why),
        Err(error) => Some(format!("Landlock: {error}")),
    };
    let calls = filters(allowed.ends_others).and_then(|filters| {
        let applied = filters.iter().map(|filter| seccompiler::apply_filter(filter));
        applied.collect::<Result<(), _>>().map_err(|error| io::Error::other(error.to_string()))
    });
    let calls = calls.err().map(|error| format!("seccomp: {error}"));
    match (files, calls) {
        (None, None) => Confinement::Whole,
        (files, calls) => {
            let all = files.into_iter().chain(calls).collect::<Vec<_>>();
            Confinement::Lacking(all.join("; "))
        }
    }
}

fn restrict_files(allowed: &Allowed) -> Result<Confinement, RulesetError> {
    let read = AccessFs::ReadFile | AccessFs::ReadDir;
    let mut rules = Ruleset::default()
        .handle_access(AccessFs::from_all(NEWEST))?
        .handle_access(AccessNet::from_all(NEWEST))?
        .scope(Scope::from_all(NEWEST))?
        .create()?
        .add_rules(path_beneath_rules(SYSTEM.iter().filter(there), read))?
        .add_rules(path_beneath_rules(["/dev/null"], AccessFs::ReadFile | AccessFs::WriteFile))?;
    let loaders = LOADERS.iter().filter(there).map(PathBuf::from);
    for program in loaders.chain(allowed.programs.iter().cloned()) {
        rules = beneath(rules, &program, AccessFs::ReadFile | AccessFs::Execute)?;
    }
    for file in &allowed.files {
        rules = rules.add_rule(PathBeneath::new(file, AccessFs::ReadFile))?;
    }
    if let Some(directory) = &allowed.directory {
        let made = AccessFs::MakeReg | AccessFs::MakeDir;
        let removed = AccessFs::RemoveFile | AccessFs::RemoveDir;
        let written = AccessFs::WriteFile | AccessFs::Truncate;
        rules = beneath(rules, directory, read | written | made | removed)?;
    }
    let status = rules.restrict_self()?;
    Ok(match status.landlock {
        _ if status.ruleset == RulesetStatus::NotEnforced || !status.no_new_privs => {
            lacking("the kernel has no Landlock, or does not let it be used")
        }
        LandlockStatus::Available { effective_abi, .. } if effective_abi >= NEEDED => {
            Confinement::Whole
        }
        _ => lacking("the kernel's Landlock is too old"),
    })
}

fn there(path: &&&str) -> bool {
    Path::new(path).exists()
}

/// A rule for what a path leads to; none where it leads to nothing.
fn beneath(
    rules: RulesetCreated,
    path: &Path,
    access: BitFlags<AccessFs>,
) -> Result<RulesetCreated, RulesetError> {
    match PathFd::new(path) {
        Ok(opened) => rules.add_rule(PathBeneath::new(opened, access)),
        Err(_) => Ok(rules),
    }
}

/// The compiled filters: what is not permitted, and what is not there, as programs then fall back to
/// what can be looked into.
fn filters(ends_others: bool) -> io::Result<[BpfProgram; 2]> {
    let mut refused: BTreeMap<i64, Vec<SeccompRule>> = BTreeMap::new();
    for call in REFUSED.iter().chain(if ends_others { &[][..] } else { &ENDING[..] }) {
        refused.insert(*call, Vec::new());
    }
    // A truncating open that does not ask to write passes by the older Landlock.
    let [truncate, mode] = [libc::O_TRUNC, libc::O_ACCMODE].map(|flag| flag as u64);
    let opens = |argument: u8| {
        let odd = [truncate, truncate | mode];
        let rules = odd.map(|flags| masked(argument, truncate | mode, flags));
        rules.into_iter().collect::<io::Result<Vec<_>>>()
    };
    refused.insert(libc::SYS_openat, opens(2)?);
    #[cfg(target_arch = "x86_64")]
    refused.insert(libc::SYS_open, opens(1)?);
    let namespaces = [
        libc::CLONE_NEWNS,
        libc::CLONE_NEWCGROUP,
        libc::CLONE_NEWUTS,
        libc::CLONE_NEWIPC,
        libc::CLONE_NEWUSER,
        libc::CLONE_NEWPID,
        libc::CLONE_NEWNET,
    ];
    let cloned = namespaces.map(|flag| masked(0, flag as u64, flag as u64));
    refused.insert(libc::SYS_clone, cloned.into_iter().collect::<io::Result<_>>()?);
    let absent = [libc::SYS_clone3, libc::SYS_openat2].map(|call| (call, Vec::new()));
    Ok([compiled(refused, libc::EPERM)?, compiled(absent.into(), libc::ENOSYS)?])
}

/// True for a call of which an argument, masked, has a value.
fn masked(argument: u8, mask: u64, value: u64) -> io::Result<SeccompRule> {
    let compare = SeccompCmpOp::MaskedEq(mask);
    let condition = SeccompCondition::new(argument, SeccompCmpArgLen::Dword, compare, value);
    let rule = condition.and_then(|condition| SeccompRule::new(vec![condition]));
    rule.map_err(|error| io::Error::other(error.to_string()))
}

fn compiled(
    mut rules: BTreeMap<i64, Vec<SeccompRule>>,
    error: libc::c_int,
) -> io::Result<BpfProgram> {
    // The same calls by their numbers in the other interface of these processors.
    #[cfg(target_arch = "x86_64")]
    {
        const X32: i64 = 0x4000_0000;
        let other: Vec<_> = rules.iter().map(|(call, all)| (call | X32, all.clone())).collect();
        rules.extend(other);
    }
    let filter = TargetArch::try_from(std::env::consts::ARCH).and_then(|processor| {
        let refuse = SeccompAction::Errno(error as u32);
        SeccompFilter::new(rules, SeccompAction::Allow, refuse, processor)?.try_into()
    });
    filter.map_err(|error| io::Error::other(error.to_string()))
}

/// The number of fchmodat2, the same on all processors.
const FCHMODAT2: i64 = 452;

/// Calls that are refused to every program that reads media.
const REFUSED: &[i64] = &[
    libc::SYS_socket,
    libc::SYS_socketpair,
    libc::SYS_io_uring_setup,
    libc::SYS_ptrace,
    libc::SYS_process_vm_readv,
    libc::SYS_process_vm_writev,
    libc::SYS_pidfd_getfd,
    libc::SYS_pidfd_send_signal,
    libc::SYS_kcmp,
    libc::SYS_unshare,
    libc::SYS_setns,
    libc::SYS_mount,
    libc::SYS_umount2,
    libc::SYS_fsopen,
    libc::SYS_open_tree,
    libc::SYS_move_mount,
    libc::SYS_pivot_root,
    libc::SYS_chroot,
    libc::SYS_bpf,
    libc::SYS_perf_event_open,
    libc::SYS_userfaultfd,
    libc::SYS_keyctl,
    libc::SYS_add_key,
    libc::SYS_request_key,
    libc::SYS_open_by_handle_at,
    libc::SYS_truncate,
    libc::SYS_fchmod,
    libc::SYS_fchmodat,
    FCHMODAT2,
    libc::SYS_fchown,
    libc::SYS_fchownat,
    libc::SYS_utimensat,
    libc::SYS_setxattr,
    libc::SYS_lsetxattr,
    libc::SYS_fsetxattr,
    libc::SYS_removexattr,
    libc::SYS_lremovexattr,
    libc::SYS_fremovexattr,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_chmod,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_chown,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_lchown,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_utime,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_utimes,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_futimesat,
];

/// Calls by which one program ends another.
const ENDING: [i64; 5] = [
    libc::SYS_kill,
    libc::SYS_tkill,
    libc::SYS_tgkill,
    libc::SYS_rt_sigqueueinfo,
    libc::SYS_rt_tgsigqueueinfo,
];
