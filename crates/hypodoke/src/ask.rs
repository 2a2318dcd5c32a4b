//! Questions to whoever sits at the terminal, each with an answer that is suggested. Escape goes back.

use std::io::IsTerminal;

use inquire::ui::{Attributes, Color, RenderConfig, StyleSheet, Styled};
use inquire::{Confirm, InquireError, Select, Text};

use crate::failure::Failure;

/// Whether somebody is there to be asked.
pub fn is_possible() -> bool {
    std::io::stdin().is_terminal() && std::io::stdout().is_terminal()
}

/// One of some answers, by its number; `None` to go back. `suggested` is the answer of whoever only presses
/// Enter.
///
/// # Errors
///
/// The terminal is gone, or the person has interrupted.
pub fn choose(
    question: &str,
    help: &str,
    answers: &[String],
    suggested: usize,
) -> Result<Option<usize>, Failure> {
    let numbered: Vec<&str> = answers.iter().map(String::as_str).collect();
    let asked = Select::new(question, numbered)
        .with_starting_cursor(suggested.min(answers.len().saturating_sub(1)))
        .with_page_size(12)
        .with_help_message(&with_keys(help))
        .with_render_config(looks())
        .raw_prompt_skippable();
    asked.map(|answer| answer.map(|answer| answer.index)).map_err(broken_off)
}

/// A text; `None` to go back.
///
/// # Errors
///
/// See [`choose`].
pub fn text(question: &str, help: &str, suggested: &str) -> Result<Option<String>, Failure> {
    let asked = Text::new(question)
        .with_default(suggested)
        .with_help_message(&with_keys(help))
        .with_render_config(looks())
        .prompt_skippable();
    asked.map_err(broken_off)
}

/// Yes or no; `None` to go back.
///
/// # Errors
///
/// See [`choose`].
pub fn confirm(question: &str, help: &str, suggested: bool) -> Result<Option<bool>, Failure> {
    let asked = Confirm::new(question)
        .with_default(suggested)
        .with_help_message(&with_keys(help))
        .with_render_config(looks())
        .prompt_skippable();
    asked.map_err(broken_off)
}

fn with_keys(help: &str) -> String {
    if help.is_empty() {
        "Enter takes it, Esc goes back".to_owned()
    } else {
        format!("{help} · Esc goes back")
    }
}

fn broken_off(error: InquireError) -> Failure {
    match error {
        InquireError::OperationInterrupted | InquireError::OperationCanceled => {
            Failure::usage("interrupted: what was not confirmed is neither written nor decided")
        }
        other => Failure::usage(format!("the terminal cannot be asked: {other}"))
            .advise("the options of the command say the same: --help"),
    }
}

/// Plain marks and few colours; none where the environment wants none.
fn looks() -> RenderConfig<'static> {
    if std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty()) {
        return RenderConfig::empty();
    }
    RenderConfig::default_colored()
        .with_prompt_prefix(Styled::new("?").with_fg(Color::DarkCyan))
        .with_answered_prompt_prefix(Styled::new("✓").with_fg(Color::DarkGreen))
        .with_highlighted_option_prefix(Styled::new("›").with_fg(Color::DarkCyan))
        .with_answer(StyleSheet::new().with_attr(Attributes::BOLD))
}
