//! Work that is done once, at a start: each step records that it was done, so that new steps of
//! later settings run, and old ones do not run again.

use pinewrit_settings::FirstStart;

/// Where steps leave their marks on the unit, one file each.
pub(crate) const MARKS: &str = "/var/lib/pinewrit/done";

/// Where their output goes.
pub(crate) const LOG: &str = "/var/log/pinewrit-first-start.log";

/// One step.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Step {
    /// Its mark, derived from what it does.
    pub(crate) mark: String,
    /// A line for the shell.
    pub(crate) command: String,
    pub(crate) when: When,
}

/// When a step runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum When {
    /// Once, whatever the result.
    Once,
    /// Once, at the first start that has a network.
    WithNetwork,
    /// Once there is a network, and again at the next start until it succeeds.
    UntilDone,
    /// At each start at which this command fails.
    Unless(String),
}

impl Step {
    pub(crate) fn new(command: &str, when: When) -> Self {
        let digest = blake3::hash(command.as_bytes()).to_hex();
        Self {
            mark: digest[..16].to_owned(),
            command: command.to_owned(),
            when,
        }
    }

    /// The commands of the settings. A repeated one runs twice.
    pub(crate) fn commands(first: &FirstStart) -> Vec<Self> {
        let mut steps: Vec<Self> = Vec::new();
        for command in &first.commands {
            let when = if command.needs_network {
                When::WithNetwork
            } else {
                When::Once
            };
            let mut step = Self::new(&command.run, when);
            let earlier = steps.iter().filter(|one| one.command == step.command);
            match earlier.count() {
                0 => {}
                count => step.mark += &format!("-{}", count + 1),
            }
            steps.push(step);
        }
        steps
    }

    fn line(&self) -> String {
        let Self {
            mark,
            command,
            when,
        } = self;
        let command = quoted(command);
        match when {
            When::Once => format!("once {mark} {command}\n"),
            When::WithNetwork => format!("once_online {mark} {command}\n"),
            When::UntilDone => format!("until_done {mark} {command}\n"),
            When::Unless(test) => format!("unless {} {command}\n", quoted(test)),
        }
    }
}

/// The test for a route through a connected interface, and the wait for one.
const ONLINE: &str = "is_online() {
  for name in $(sed 1d /proc/net/route 2> /dev/null | cut -f 1) \\
    $(grep -v -e '^fe80' -e '^ff00' /proc/net/ipv6_route 2> /dev/null | sed 's/.* //'); do
    [ \"$name\" != lo ] || continue
    [ \"$(cat /sys/class/net/$name/carrier 2> /dev/null)\" != 1 ] || return 0
  done
  return 1
}
wait_a_while() {
  left=60
  while [ $left -gt 0 ] && ! is_online; do sleep 1; left=$((left - 1)); done
}
";

/// A word of the shell (POSIX, "Shell Command Language", 2.2.2).
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// The caller of the script does not wait for its steps.
const BESIDE: &str =
    "[ \"$1\" = beside ] || { \"$0\" beside < /dev/null > /dev/null 2>&1 & exit 0; }\n";

/// As [`script`], but its steps run in the background.
pub(crate) fn script_beside(steps: &[Step], log: &str) -> String {
    text(BESIDE, steps, log)
}

/// The script that runs steps in order, with a log.
pub(crate) fn script(steps: &[Step], log: &str) -> String {
    text("", steps, log)
}

fn text(guard: &str, steps: &[Step], log: &str) -> String {
    let lines: String = steps.iter().map(Step::line).collect();
    format!(
        "#!/bin/sh
# Written by Pinewrit: runs at each start, and each step once.
{guard}exec >> {log} 2>&1
marks={MARKS}
mkdir -p \"$marks\"
result=0
run() {{
  echo \"> $1\"
  sh -c \"$1\" || {{ code=$?; echo \"failed: $code\"; result=1; return $code; }}
}}
# A mark goes down first: a step that stops the unit is not run again and again.
once() {{
  [ -e \"$marks/$1\" ] && return
  date > \"$marks/$1\"
  run \"$2\"
}}
once_online() {{
  [ -e \"$marks/$1\" ] && return
  await_network && once \"$1\" \"$2\"
}}
until_done() {{
  [ -e \"$marks/$1\" ] && return
  await_network && run \"$2\" && date > \"$marks/$1\"
}}
unless() {{
  sh -c \"$1\" > /dev/null 2>&1 || run \"$2\"
}}
{ONLINE}waited=
await_network() {{
  [ -n \"$waited\" ] || {{ wait_a_while; waited=yes; }}
  is_online || {{ echo 'no network: left for the next start'; return 1; }}
}}
{lines}exit $result
"
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use pinewrit_settings::FirstCommand;

    #[test]
    fn the_same_command_twice_has_two_marks() {
        let twice = FirstCommand {
            run: "echo 'a' >> /b".to_owned(),
            needs_network: false,
        };
        let first = FirstStart {
            packages: Vec::new(),
            commands: vec![twice.clone(), twice],
        };
        let steps = Step::commands(&first);
        assert_eq!(steps[1].mark, format!("{}-2", steps[0].mark));
        let script = script(&steps, "/log");
        assert!(script.contains("'echo '\\''a'\\'' >> /b'"), "{script}");
    }

    /// The step waits for a file that only exists once the script has returned.
    #[test]
    fn steps_run_beside_what_starts_them() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        let (go, done) = (path("go"), path("done"));
        let run = format!(
            "until [ -e '{}' ]; do sleep 0.1; done; echo 1 >> '{}'",
            go.display(),
            done.display()
        );
        let step = Step::new(&run, When::Once);
        let log = path("log").display().to_string();
        let script = script_beside(&[step], &log);
        let marks = path("marks").display().to_string();
        std::fs::write(path("script"), script.replace(MARKS, &marks)).unwrap();
        let starter = std::process::Command::new("sh")
            .args(["-c", "chmod 0700 script; exec ./script"])
            .current_dir(folder.path())
            .status();
        assert!(starter.unwrap().success());
        assert!(!done.exists());
        std::fs::write(go, "").unwrap();
        while !done.exists() {
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
    }
}
