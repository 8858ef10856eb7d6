//! Processes that lead a group, so that whatever they start ends with them.

use std::process::{Child, Command, ExitStatus};

/// Makes a process the first of a group of its own. Signals for this process, such as an interrupt from a terminal, do not reach it.
#[cfg(unix)]
pub(crate) fn lead_a_group(command: &mut Command) {
    std::os::unix::process::CommandExt::process_group(command, 0);
}

#[cfg(not(unix))]
pub(crate) fn lead_a_group(_: &mut Command) {}

/// Returns `true` if a process has ended. Its status can still be asked for.
#[cfg(unix)]
pub(crate) fn has_ended(child: &Child) -> bool {
    look_at(child).is_none_or(|ended| ended)
}

#[cfg(not(unix))]
pub(crate) fn has_ended(_: &Child) -> bool {
    false
}

/// Kills a process and its group, and returns its status: its own if it had ended before.
pub(crate) fn end(child: &mut Child) -> Option<ExitStatus> {
    #[cfg(unix)]
    if let Some(group) = rustix::process::Pid::from_raw(child.id().cast_signed())
        // The number of a process that was waited for may be another's by now.
        && look_at(child).is_some()
    {
        // The group is gone if all of it has ended.
        let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
    }
    let _ = child.kill();
    child.wait().ok()
}

/// Returns whether a process has ended, and leaves its status for who waits for it; `None` if it was waited for.
#[cfg(unix)]
fn look_at(child: &Child) -> Option<bool> {
    use rustix::process::{Pid, WaitId, WaitIdOptions, waitid};
    let pid = Pid::from_raw(child.id().cast_signed())?;
    let how = WaitIdOptions::EXITED | WaitIdOptions::NOHANG | WaitIdOptions::NOWAIT;
    waitid(WaitId::Pid(pid), how).ok().map(|ended| ended.is_some())
}

#[cfg(all(test, unix))]
mod tests {
    use std::io::{BufRead, BufReader};
    use std::process::Stdio;
    use std::time::{Duration, Instant};

    use super::*;

    fn shell(script: &str) -> Child {
        let mut command = Command::new("/bin/sh");
        command.args(["-c", script]).stdout(Stdio::piped());
        lead_a_group(&mut command);
        command.spawn().expect("a shell")
    }

    #[test]
    fn what_a_process_started_ends_with_it() {
        // The shell ends with a status of its own, and leaves a process behind that holds its pipe.
        let mut child = shell("sleep 600 & echo $!; exit 7");
        let mut out = BufReader::new(child.stdout.take().expect("a pipe"));
        let mut number = String::new();
        out.read_line(&mut number).expect("a number");
        let until = Instant::now() + Duration::from_secs(20);
        while !has_ended(&child) && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(5));
        }
        assert_eq!(end(&mut child).and_then(|status| status.code()), Some(7));
        // The pipe closes when the last process that holds it is gone.
        assert_eq!(out.read_line(&mut number).expect("the end"), 0);
        assert_eq!(end(&mut child).and_then(|status| status.code()), Some(7), "once more changes nothing");
    }
}
