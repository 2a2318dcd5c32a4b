//! The program ended or stopped at a named point of a load.

use std::collections::BTreeMap;
use std::process::{Child, Command, ExitStatus, Stdio};

use crate::Workshop;
use crate::watch::wait_for;

/// A process that stands still at a point of a load.
pub struct Stopped(Child);

impl Workshop {
    /// How often a command passes each point, where nobody stops it.
    pub fn points(&self, mut command: Command) -> BTreeMap<String, usize> {
        let file = self.path("points");
        let status = quiet(command.env("HYPODOKE_POINTS_TO", &file)).status().expect("a load");
        assert!(matches!(status.code(), Some(0 | 3)), "{status}");
        let mut all = BTreeMap::new();
        for point in std::fs::read_to_string(file).expect("points").lines() {
            *all.entry(point.to_owned()).or_default() += 1;
        }
        all
    }
}

/// Runs a command that ends at a point, `load.sent:3` at the third time; whether it came there.
pub fn end_at(mut command: Command, point: &str) -> bool {
    quiet(command.env("HYPODOKE_END_AT", point)).status().expect("a load").code().is_none()
}

/// Starts a command that stands still at a point; `None` if it is over without having come there.
pub fn stop_at(mut command: Command, point: &str) -> Option<Stopped> {
    let mut child = quiet(command.env("HYPODOKE_STOP_AT", point)).spawn().expect("a load");
    let mut is_over = false;
    wait_for("the point", || {
        is_over = child.try_wait().expect("a state").is_some();
        is_over || is_still(child.id())
    });
    (!is_over).then_some(Stopped(child))
}

fn quiet(command: &mut Command) -> &mut Command {
    command.stdout(Stdio::null()).stderr(Stdio::null())
}

/// Whether a process is stopped, as Linux says: the state stands behind the name in parentheses.
fn is_still(process: u32) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    stat.rsplit_once(") ").is_some_and(|(_, rest)| rest.starts_with('T'))
}

impl Stopped {
    /// Lets it go on, and waits for its end.
    pub fn go_on(mut self) -> ExitStatus {
        let told = Command::new("kill").args(["-CONT", &self.0.id().to_string()]).status();
        assert!(told.expect("kill").success());
        self.0.wait().expect("an end")
    }
}

impl Drop for Stopped {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}
