//! Counts the work for an input that is doubled three times: the instructions of a process that does it once, so that no clock is asked.

use std::env;
use std::process::Command;

/// Names what the process does, and the size of its input.
const VARIABLE: &str = "GROWTH";
/// Twice the input may take so many times the work more than the doubling before. Work by the square takes four.
const MAX_GROWTH: f64 = 2.6;

/// Work by name, and the size of the smallest input.
pub type Work = (&'static str, usize, fn(usize));

/// Makes the test that measures all work, and the one that it runs in a process of its own for a piece of it.
macro_rules! assert_growth {
    ($all:expr) => {
        /// A process that is counted does a piece of the work.
        #[test]
        #[ignore = "is run by the next test"]
        fn one() {
            harness::one($all);
        }

        #[test]
        fn work_grows_with_the_input() {
            harness::assert_linear($all, "growth::one");
        }
    };
}
pub(crate) use assert_growth;

/// Does the work that the variable names, in a process that is counted.
pub fn one(all: &[Work]) {
    let Ok(asked) = env::var(VARIABLE) else { return };
    let (name, size) = asked.rsplit_once(' ').expect("a name and a size");
    let (_, _, work) = all.iter().find(|(own, _, _)| *own == name).expect("a known name");
    work(size.parse().expect("a size"));
}

/// Asserts that each work grows with its input and not by its square. `test` is the path of the test that calls [`one`].
pub fn assert_linear(all: &[Work], test: &str) {
    if Command::new("valgrind").arg("--version").output().is_err() {
        assert!(env::var_os("NEEDS_VALGRIND").is_none(), "valgrind is not installed");
        eprintln!("skipped: valgrind, which counts instructions, is not installed");
        return;
    }
    let next = std::sync::Mutex::new(all.iter());
    let failed = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let Some((name, size, _)) = next.lock().expect("no panic").next() else { break };
                    let counts = [1, 2, 4, 8].map(|times| count(test, name, size * times));
                    let more: Vec<f64> = counts.windows(2).map(|pair| pair[1] - pair[0]).collect();
                    println!(
                        "{name}: {counts:?}, {:.2} and {:.2} times as much more",
                        more[1] / more[0],
                        more[2] / more[1]
                    );
                    // An input without any work would pass too.
                    if more[2] < 1e5 || more[2] > MAX_GROWTH * more[1] {
                        failed.lock().expect("no panic").push(format!("{name}: {counts:?}"));
                    }
                }
            });
        }
    });
    let failed = failed.into_inner().expect("no panic");
    assert!(failed.is_empty(), "{failed:#?}");
}

/// Returns the number of instructions.
fn count(test: &str, name: &str, size: usize) -> f64 {
    let program = env::current_exe().expect("this program");
    let run = Command::new("valgrind")
        .args(["--tool=cachegrind", "--cache-sim=no", "--cachegrind-out-file=/dev/null"])
        .arg(program)
        .args(["--exact", test, "--ignored", "--nocapture", "--test-threads=1"])
        .env(VARIABLE, format!("{name} {size}"))
        .output()
        .expect("valgrind runs");
    let said = String::from_utf8_lossy(&run.stderr);
    assert!(run.status.success(), "{name} {size}: {said}{}", String::from_utf8_lossy(&run.stdout));
    let line = said.lines().find_map(|line| line.split_once("refs:")).expect("a count").1;
    line.chars().filter(char::is_ascii_digit).collect::<String>().parse().expect("a number")
}
