//! The progress bar: on a terminal, and only for what takes longer than a second.

use std::sync::Mutex;
use std::time::{Duration, Instant};

use hypodoke_engine::event::{Event, Listener, Step};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use hypodoke_core::count;
use hypodoke_core::sanitize::clean;

/// How long a command runs before a bar is worth drawing.
const SHOWN_AFTER: Duration = Duration::from_secs(1);

/// Shows events as a bar.
pub struct Progress {
    state: Mutex<State>,
}

struct State {
    began: Instant,
    bar: Option<ProgressBar>,
    bytes: u64,
    done: u64,
    path: String,
    step: &'static str,
    /// The bytes to look at are in the sum already.
    only_profiling: bool,
}

impl Progress {
    /// A bar that will appear in a while.
    pub fn new() -> Progress {
        let state = State {
            began: Instant::now(),
            bar: None,
            bytes: 0,
            done: 0,
            path: String::new(),
            step: "",
            only_profiling: false,
        };
        Progress { state: Mutex::new(state) }
    }
}

impl State {
    fn show(&mut self) {
        if self.bar.is_none() && self.began.elapsed() >= SHOWN_AFTER {
            let bar = ProgressBar::with_draw_target(Some(self.bytes), ProgressDrawTarget::stderr());
            let template =
                "{prefix:>9} {wide_msg} {bar:24} {decimal_bytes:>10}/{decimal_total_bytes} {eta:>4}";
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(style.progress_chars("=> "));
            }
            self.bar = Some(bar);
        }
        if let Some(bar) = &self.bar {
            bar.set_length(self.bytes.max(self.done));
            bar.set_position(self.done);
            bar.set_prefix(self.step);
            bar.set_message(self.path.clone());
        }
    }
}

impl Listener for Progress {
    fn on(&self, event: &Event) {
        let mut state = self.state.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        match event {
            Event::BatchBegan { bytes, .. } => state.bytes += bytes,
            Event::SurveyBegan { bytes, .. } => {
                state.bytes += bytes;
                state.only_profiling = true;
            }
            Event::FileBegan { path, step, bytes } => {
                state.path = clean(path);
                state.step = match step {
                    Step::Profiling => "profiling",
                    Step::Loading => "loading",
                };
                if *step == Step::Profiling && !state.only_profiling {
                    state.bytes += bytes;
                }
            }
            Event::Progress { bytes, .. } => {
                state.done += bytes;
                state.show();
            }
            Event::BatchEnded { .. } | Event::SurveyEnded => {
                if let Some(bar) = state.bar.take() {
                    bar.finish_and_clear();
                }
            }
            _ => {}
        }
    }
}

/// Says what is done, line by line, on standard error.
pub struct Narrator {
    began: Instant,
    /// With times and every step, not only what became of each file.
    detailed: bool,
}

impl Narrator {
    /// A narrator; `detailed` says more.
    pub fn new(detailed: bool) -> Narrator {
        Narrator { began: Instant::now(), detailed }
    }
}

impl Listener for Narrator {
    fn on(&self, event: &Event) {
        let line = match event {
            Event::BatchBegan { files, bytes, .. } | Event::SurveyBegan { files, bytes } => {
                format!("{} to read, {}", count::files(*files as u64), count::bytes(*bytes))
            }
            Event::FileBegan { path, step, bytes } if self.detailed => {
                let verb = match step {
                    Step::Profiling => "profiling",
                    Step::Loading => "loading",
                };
                format!("{verb} {} ({})", clean(path), count::bytes(*bytes))
            }
            Event::FileEnded { line, .. } => format!("{}: {}", clean(&line.path), line.outcome.word()),
            Event::Retrying { error, .. } => format!("trying again after: {error}"),
            _ => return,
        };
        if self.detailed {
            eprintln!("{:>9.3} s  {line}", self.began.elapsed().as_secs_f64());
        } else {
            eprintln!("{line}");
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let Ok(mut state) = self.state.lock()
            && let Some(bar) = state.bar.take()
        {
            bar.finish_and_clear();
        }
    }
}
