//! The questions to a running board: one shell script that only reads.

use std::time::Duration;

/// Its first line; a stand-in for a board knows the questions by it.
pub const FIRST_LINE: &str = "# pinewrit commission 1";
/// How long a board is asked to wait for the end of its first start: every question costs it time.
pub const WAIT: Duration = Duration::from_secs(30);
/// How the answers to each question begin.
pub(crate) const MARK: &str = "@@";
const SCRIPT: &str = include_str!("probe.sh");

/// The script (POSIX, "Shell Command Language"; also for BusyBox).
///
/// `users` are those whose keys are looked at. With `has_sudo`, what only root may read is read by
/// `sudo -n`; otherwise nobody is asked for rights, because a refusal is logged on the board. While
/// work of the first start goes on, the board waits for up to `wait`; if that is not enough, it says only
/// that. Without `wait`, it answers everything at once.
pub fn script(users: &[&str], has_sudo: bool, wait: Duration) -> String {
    let named: Vec<&str> = users
        .iter()
        .copied()
        .filter(|user| is_plain(user))
        .collect();
    let sudo = if has_sudo { "yes" } else { "no" };
    format!(
        "{FIRST_LINE}\nusers='{}'\nsudo={sudo}\nwait={}\n{SCRIPT}",
        named.join(" "),
        wait.as_secs()
    )
}

/// The questions of a script, with what they are about: `keys warden`. What no script asks is not
/// in it.
pub fn questions(script: &str) -> Vec<String> {
    let mut all = Vec::new();
    let users = script.lines().find_map(|line| line.strip_prefix("users='"));
    let users = users.and_then(|rest| rest.strip_suffix('\'')).unwrap_or("");
    for line in script.lines() {
        match line.trim_start().strip_prefix("asked ") {
            Some(r#"keys "$user""#) => {
                all.extend(users.split_whitespace().map(|user| format!("keys {user}")));
            }
            Some(question) => all.push(question.to_owned()),
            None => {}
        }
    }
    all
}

/// Whether a name needs no quotes.
fn is_plain(name: &str) -> bool {
    let is_sign = |sign: char| sign.is_ascii_alphanumeric() || matches!(sign, '-' | '_' | '.');
    !name.is_empty() && name.chars().all(is_sign)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn questions_of_the_script() {
        let script = script(&["warden", "j.doe", "'; reboot"], false, Duration::ZERO);
        assert!(script.starts_with(FIRST_LINE));
        assert!(!script.contains("reboot"));
        let questions = questions(&script);
        assert_eq!(questions[0], "hostname");
        assert!(questions.contains(&"keys warden".to_owned()));
        assert!(questions.contains(&"keys j.doe".to_owned()));
        assert_eq!(questions.last().map(String::as_str), Some("end"));
    }

    /// The computer that runs the tests is a board, too: it answers, and nothing is written.
    #[test]
    fn a_shell_answers() {
        let answered = std::process::Command::new("sh")
            .args(["-c", &script(&["root"], false, Duration::from_secs(1))])
            .output();
        let answered = answered.unwrap();
        let text = String::from_utf8_lossy(&answered.stdout).into_owned();
        assert!(answered.stderr.is_empty(), "{answered:?}");
        let seen = crate::commission::Seen::parse(&text);
        assert!(seen.is_whole());
        assert!(seen.clock().is_some_and(|time| time > 1_700_000_000));
    }

    /// A board whose first start is over after so many questions, asked to wait for up to three seconds.
    #[rstest::rstest]
    #[case::in_time(1, 3, false)]
    #[case::too_late(9, 3, true)]
    #[case::nobody_waits(9, 0, false)]
    fn a_board_waits_for_its_first_start(
        #[case] questions: u32,
        #[case] wait: u64,
        #[case] is_brief: bool,
    ) {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let (program, asked) = (folder.path().join("systemctl"), folder.path().join("asked"));
        let text = format!(
            "#!/bin/sh\necho >> {0}\nif [ $(wc -l < {0}) -gt {questions} ]; then echo running; else echo starting; fi\n",
            asked.display()
        );
        std::fs::write(&program, text).unwrap();
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
        let path = std::env::var("PATH").unwrap();
        let answered = std::process::Command::new("sh")
            .args(["-c", &script(&[], false, Duration::from_secs(wait))])
            .env("PATH", format!("{}:{path}", folder.path().display()))
            .output()
            .unwrap();
        let seen = crate::commission::Seen::parse(&String::from_utf8_lossy(&answered.stdout));
        assert!(seen.is_whole());
        assert_eq!(seen.is_brief(), is_brief);
        assert_eq!(seen.clock().is_some(), !is_brief);
    }
}
