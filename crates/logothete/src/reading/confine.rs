//! What a reader may use: memory, time, and files to read.

use std::time::Duration;

use serde::{Deserialize, Serialize};

/// What keeps a reader from the files and the network.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum Guard {
    /// Landlock of the Linux kernel: files.
    Landlock,
    /// Filters of system calls of the Linux kernel: sockets and programs.
    Filters,
}

/// Limits this process for good: it may use so much memory, and writes no files. Where the system can, it also makes no connections, and starts no program
/// but a recogniser. It ends with the process that started it.
///
/// Returns the guards that the system lacks.
pub(super) fn confine(memory: u64, runs_programs: bool) -> Vec<Guard> {
    limits(memory);
    let had = [(Guard::Landlock, files_and_network(runs_programs)), (Guard::Filters, calls(runs_programs))];
    had.into_iter().filter(|(_, had)| !had).map(|(guard, _)| guard).collect()
}

#[cfg(unix)]
fn limits(memory: u64) {
    use rustix::process::{Resource, Rlimit, setrlimit};
    let set = |resource: Resource, most: u64| {
        // A system that refuses one still gets the others.
        let _ = setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) });
    };
    set(Resource::Data, memory);
    set(Resource::Core, 0);
    set(Resource::Nofile, 64);
    set(Resource::Fsize, 0);
    #[cfg(target_os = "linux")]
    {
        use rustix::process::{Signal, set_parent_process_death_signal};
        let _ = set_parent_process_death_signal(Some(Signal::KILL));
    }
}

#[cfg(not(unix))]
fn limits(_: u64) {}

/// Lets this process compute for so long from now on. Beyond it the system ends the process.
#[cfg(target_os = "linux")]
pub(super) fn allow_time(time: Duration) {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let used = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    let until = u64::try_from(used.tv_sec).unwrap_or_default() + time.as_secs() + 2;
    let _ = setrlimit(Resource::Cpu, Rlimit { current: Some(until), maximum: getrlimit(Resource::Cpu).maximum });
}

#[cfg(not(target_os = "linux"))]
pub(super) fn allow_time(_: Duration) {}

/// Where the kernel has Landlock: no file is written or made, none is run unless a recogniser is, and no connection is made over TCP. Returns whether it has.
#[cfg(target_os = "linux")]
fn files_and_network(runs_programs: bool) -> bool {
    use landlock::{
        ABI, Access, AccessFs, AccessNet, Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetError, RulesetStatus,
        path_beneath_rules,
    };
    let restrict = || -> Result<RulesetStatus, RulesetError> {
        let version = ABI::V4;
        let mut reads = AccessFs::ReadFile | AccessFs::ReadDir;
        if runs_programs {
            reads |= AccessFs::Execute;
        }
        // A kernel that knows fewer of these keeps those that it knows.
        let status = Ruleset::default()
            .handle_access(AccessFs::from_all(version))?
            .handle_access(AccessNet::from_all(version))?
            .create()?
            .add_rules(path_beneath_rules(["/"], reads))?
            .restrict_self()?;
        Ok(status.ruleset)
    };
    restrict().is_ok_and(|status| status != RulesetStatus::NotEnforced)
}

#[cfg(not(target_os = "linux"))]
fn files_and_network(_: bool) -> bool {
    false
}

/// Where the kernel has filters of system calls, on common processors: the process opens no socket of any kind, and starts no other process unless it runs a recogniser.
/// Returns whether it has.
#[cfg(target_os = "linux")]
fn calls(runs_programs: bool) -> bool {
    use seccompiler::{
        BackendError, BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter,
        SeccompRule, apply_filter,
    };
    let filter = |calls: Vec<(i64, Vec<SeccompRule>)>, error: libc::c_int| -> Result<BpfProgram, BackendError> {
        let refusal = SeccompAction::Errno(error.unsigned_abs());
        SeccompFilter::new(
            calls.into_iter().collect(),
            SeccompAction::Allow,
            refusal,
            std::env::consts::ARCH.try_into()?,
        )?
        .try_into()
    };
    let restrict = || -> Result<(), seccompiler::Error> {
        let mut refused = vec![(libc::SYS_socket, Vec::new()), (libc::SYS_socketpair, Vec::new())];
        // A filter cannot look at the arguments of these calls. A library does without them if the kernel does not know them.
        let mut unknown = vec![(libc::SYS_io_uring_setup, Vec::new())];
        if !runs_programs {
            let threads = SeccompCmpOp::MaskedEq(u64::from(libc::CLONE_THREAD.unsigned_abs()));
            let is_no_thread = SeccompCondition::new(0, SeccompCmpArgLen::Qword, threads, 0)?;
            refused.push((libc::SYS_clone, vec![SeccompRule::new(vec![is_no_thread])?]));
            refused.push((libc::SYS_execve, Vec::new()));
            refused.push((libc::SYS_execveat, Vec::new()));
            #[cfg(target_arch = "x86_64")]
            refused.extend([(libc::SYS_fork, Vec::new()), (libc::SYS_vfork, Vec::new())]);
            unknown.push((libc::SYS_clone3, Vec::new()));
        }
        for (calls, error) in [(refused, libc::EACCES), (unknown, libc::ENOSYS)] {
            apply_filter(&filter(calls, error)?)?;
        }
        Ok(())
    };
    restrict().is_ok()
}

#[cfg(not(target_os = "linux"))]
fn calls(_: bool) -> bool {
    false
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use std::fs::File;
    use std::net::{TcpListener, UdpSocket};
    use std::os::unix::net::UnixDatagram;
    use std::process::Command;

    use rstest::rstest;

    use super::*;

    const VARIABLE: &str = "CONFINED";

    /// Runs in a process of its own, which it limits for good.
    #[test]
    #[ignore = "is run by the next test"]
    fn inside() {
        let Some(runs_programs) = std::env::var_os(VARIABLE).map(|value| value == "programs") else { return };
        let place = std::env::temp_dir().join("a-reader-wrote-this");
        assert_eq!(confine(500_000_000, runs_programs), []);
        assert!(UdpSocket::bind("127.0.0.1:0").is_err(), "UDP");
        assert!(TcpListener::bind("127.0.0.1:0").is_err(), "TCP");
        assert!(UnixDatagram::unbound().is_err(), "local sockets");
        assert!(File::create(&place).is_err(), "a file");
        assert_eq!(Command::new("/bin/true").status().is_ok(), runs_programs, "a program");
        assert!(std::thread::spawn(|| 7).join().is_ok_and(|seven| seven == 7), "threads are left");
        assert!(File::open("/proc/self/status").is_ok(), "files are read");
        println!("confined");
    }

    #[rstest]
    #[case("nothing")]
    #[case("programs")]
    fn a_confined_process_reaches_nobody(#[case] what: &str) {
        let run = Command::new(std::env::current_exe().expect("this program"))
            .args(["--exact", "reading::confine::tests::inside", "--ignored", "--nocapture", "--test-threads=1"])
            .env(VARIABLE, what)
            .output()
            .expect("it runs");
        let out = String::from_utf8_lossy(&run.stdout);
        assert!(run.status.success() && out.contains("confined"), "{out}{}", String::from_utf8_lossy(&run.stderr));
    }
}
