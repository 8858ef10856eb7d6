//! What a reader may use: memory, time, and files to read.

use std::time::Duration;

/// Limits this process for good: to so much memory, to no larger files than none, and, where the system can, to reading files and to the programs that
/// a recogniser is. It ends with the process that started it.
pub(super) fn confine(memory: u64, runs_programs: bool) {
    limits(memory);
    files_and_network(runs_programs);
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

/// Where the kernel has Landlock: no file is written or made, none is run unless a recogniser is, and no connection is made over TCP.
#[cfg(target_os = "linux")]
fn files_and_network(runs_programs: bool) {
    use landlock::{
        ABI, Access, AccessFs, AccessNet, Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetError, path_beneath_rules,
    };
    let restrict = || -> Result<(), RulesetError> {
        let version = ABI::V4;
        let mut reads = AccessFs::ReadFile | AccessFs::ReadDir;
        if runs_programs {
            reads |= AccessFs::Execute;
        }
        // A kernel that knows fewer of these keeps those that it knows.
        Ruleset::default()
            .handle_access(AccessFs::from_all(version))?
            .handle_access(AccessNet::from_all(version))?
            .create()?
            .add_rules(path_beneath_rules(["/"], reads))?
            .restrict_self()?;
        Ok(())
    };
    let _ = restrict();
}

#[cfg(not(target_os = "linux"))]
fn files_and_network(_: bool) {}
