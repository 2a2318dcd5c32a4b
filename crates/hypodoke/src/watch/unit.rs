//! What systemd needs to run a watch, or a load by the clock.

use std::path::Path;

/// The units, each with the name of its file in a comment above it.
pub fn text(program: &Path, config: &Path, feeds: &[String]) -> String {
    let folder = config.parent().unwrap_or(Path::new("/"));
    let (program, config, folder) =
        (quoted(&program.display().to_string()), quoted(&config.display().to_string()), folder.display());
    let feeds: String = feeds.iter().map(|feed| format!(" {}", quoted(feed))).collect();
    let folder = folder.to_string().replace('%', "%%");
    let arguments = format!("--config {config}{feeds}");
    watch_unit(&program, &arguments, &folder) + &timer_units(&program, &arguments, &folder)
}

/// The unit of a watch.
fn watch_unit(program: &str, arguments: &str, folder: &str) -> String {
    format!(
        "\
# Either the watch: /etc/systemd/system/hypodoke-watch.service
# systemctl enable --now hypodoke-watch.service

[Unit]
Description=Hypodoke loads files as they arrive
Wants=network-online.target
After=network-online.target

[Service]
ExecStart={program} watch {arguments}
WorkingDirectory={folder}
# Secrets that the configuration asks for as ${{NAME}}: lines of NAME=value, for its user's eyes only.
EnvironmentFile=-/etc/hypodoke.env
User=hypodoke
Restart=on-failure
RestartSec=10
# The file in hand is finished first; one that takes longer is undone, and loaded again.
TimeoutStopSec=900
NoNewPrivileges=yes
ProtectSystem=full
PrivateTmp=yes

[Install]
WantedBy=multi-user.target

"
    )
}

/// The unit of a load, and its timer.
fn timer_units(program: &str, arguments: &str, folder: &str) -> String {
    format!(
        "\
# Or a load by the clock: /etc/systemd/system/hypodoke-load.service

[Unit]
Description=Hypodoke loads what is new
Wants=network-online.target
After=network-online.target

[Service]
Type=oneshot
ExecStart={program} load {arguments}
WorkingDirectory={folder}
EnvironmentFile=-/etc/hypodoke.env
User=hypodoke
# Done, but something is held or rejected beyond its limit: people are told of that.
SuccessExitStatus=3
NoNewPrivileges=yes
ProtectSystem=full
PrivateTmp=yes

# With its timer: /etc/systemd/system/hypodoke-load.timer
# systemctl enable --now hypodoke-load.timer

[Unit]
Description=Hypodoke loads what is new, every morning

[Timer]
OnCalendar=*-*-* 06:00
Persistent=yes

[Install]
WantedBy=timers.target
"
    )
}

/// A word of a command line as systemd reads it.
fn quoted(text: &str) -> String {
    let text = text.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$");
    let is_plain = text.chars().all(|c| c.is_ascii_alphanumeric() || "/._-".contains(c));
    if is_plain { text } else { format!("\"{text}\"") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_quoted_as_systemd_reads_them() {
        assert_eq!(quoted("/opt/hypodoke"), "/opt/hypodoke");
        assert_eq!(quoted("/opt/my files/50%$.toml"), "\"/opt/my files/50%%$$.toml\"");
    }
}
