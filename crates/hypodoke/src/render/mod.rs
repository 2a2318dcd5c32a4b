//! Renderers: what people and programs see of events and results.

pub mod draft;
pub mod drift;
pub mod feed_plan;
pub mod grid;
pub mod json;
pub mod ledger;
pub mod log;
pub mod moment;
pub mod paths;
pub mod preview;
pub mod progress;
pub mod receipt;
pub mod receipt_json;
mod remarks;
pub mod settle;
pub mod survey;
pub mod survey_json;
pub mod tally;

use std::io::{self, IsTerminal, Write};

use anstyle::{AnsiColor, Style};

/// When to colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum ColorChoice {
    /// On a terminal, unless NO_COLOR is set.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// What a piece of output is about: it decides its colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// Nothing in particular.
    Plain,
    /// A heading.
    Heading,
    /// Less important.
    Faint,
    /// All is well.
    Good,
    /// A person should look.
    Warning,
    /// Something is wrong.
    Bad,
}

impl Tone {
    fn style(self) -> Style {
        match self {
            Tone::Plain => Style::new(),
            Tone::Heading => Style::new().bold(),
            Tone::Faint => Style::new().dimmed(),
            Tone::Good => AnsiColor::Green.on_default(),
            Tone::Warning => AnsiColor::Yellow.on_default(),
            Tone::Bad => AnsiColor::Red.on_default().bold(),
        }
    }
}

/// Where and how output goes: resolved once from the arguments and the terminal.
#[derive(Clone, Copy, Debug)]
pub struct Screen {
    /// Columns of the terminal; `None` where there is none.
    pub width: Option<u16>,
    /// Whether standard output takes colour.
    pub color: bool,
    /// Whether standard error takes colour.
    pub error_color: bool,
    /// Whether a progress bar may be drawn.
    pub progress: bool,
    /// Print results only.
    pub quiet: bool,
}

impl Screen {
    /// Looks at the terminal and the environment.
    pub fn resolve(choice: ColorChoice, quiet: bool) -> Screen {
        let (out, error) = (io::stdout().is_terminal(), io::stderr().is_terminal());
        let plain = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let wants = |terminal: bool| match choice {
            ColorChoice::Always => true,
            ColorChoice::Never => false,
            ColorChoice::Auto => terminal && !plain,
        };
        let width = terminal_size::terminal_size().map(|(width, _)| width.0).filter(|_| out);
        Screen { width, color: wants(out), error_color: wants(error), progress: error && !quiet, quiet }
    }

    /// No terminal: plain words, as wide as they are.
    pub fn plain() -> Screen {
        Screen { width: None, color: false, error_color: false, progress: false, quiet: false }
    }

    /// Text in a tone, for standard output.
    pub fn paint(&self, tone: Tone, text: &str) -> String {
        painted(self.color, tone, text)
    }

    /// A sentence in a tone behind what stands before it, broken between words where the terminal ends. A
    /// command is not broken, so that it can be copied.
    pub fn sentence(&self, before: &str, tone: Tone, text: &str) -> String {
        let Some(width) = self.width.filter(|_| !text.starts_with('→')) else {
            return format!("{before}{}\n", self.paint(tone, text));
        };
        let options = textwrap::Options::new(usize::from(width.max(40)))
            .initial_indent(before)
            .subsequent_indent("    ")
            .word_splitter(textwrap::WordSplitter::NoHyphenation);
        let mut out = String::new();
        for (at, line) in textwrap::wrap(text, options).iter().enumerate() {
            let indent = if at == 0 { before } else { "    " };
            let line = line.strip_prefix(indent).unwrap_or(line);
            out.push_str(&format!("{indent}{}\n", self.paint(tone, line)));
        }
        out
    }

    /// Text in a tone, for standard error.
    pub fn paint_error(&self, tone: Tone, text: &str) -> String {
        painted(self.error_color, tone, text)
    }
}

fn painted(color: bool, tone: Tone, text: &str) -> String {
    let style = tone.style();
    if color && tone != Tone::Plain { format!("{style}{text}{style:#}") } else { text.to_owned() }
}

/// Writes to standard output. A reader that went away, as `head` does, is no error.
pub fn print(text: &str) {
    let mut out = io::stdout().lock();
    if out.write_all(text.as_bytes()).and_then(|()| out.flush()).is_err() {
        std::process::exit(0);
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::no_terminal(None, "a.csv: one two three four five six seven eight nine ten\n")]
    #[case::narrow(Some(40), "a.csv: one two three four five six seven\n    eight nine ten\n")]
    #[case::wide(Some(80), "a.csv: one two three four five six seven eight nine ten\n")]
    fn sentences_break_between_words(#[case] width: Option<u16>, #[case] shown: &str) {
        let screen = Screen { width, ..Screen::plain() };
        let text = "one two three four five six seven eight nine ten";
        assert_eq!(screen.sentence("a.csv: ", Tone::Warning, text), shown);
        let command = format!("→ hypodoke settle {}", "a_long_name.csv ".repeat(5).trim());
        assert_eq!(screen.sentence("  ", Tone::Plain, &command), format!("  {command}\n"));
    }
}
