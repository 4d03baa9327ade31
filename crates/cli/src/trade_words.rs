//! Words of the trade that are no commands here, and the commands that do what they mean.

/// What to type instead of a word, if it is one that people try.
pub(crate) fn answer(word: &str) -> Option<String> {
    let command = match word {
        "diff" | "delta" => "compare",
        "lint" | "validate" | "verify" | "test" | "audit" => "check",
        "generate" | "build" | "template" | "write" | "export" => "render",
        "import" | "migrate" | "convert" | "scan" => "adopt",
        "exec" | "start" | "env" => "run",
        "ls" | "tree" => "list",
        "cat" | "view" | "print" | "describe" | "resolve" | "inspect" => "show",
        "encrypt" | "lock" => "key protect",
        "decrypt" | "unlock" => "get --unmask",
        "grant" | "invite" => "key admit",
        "revoke" => "key exclude",
        "ignore" | "suppress" | "accept" | "silence" => "waive",
        "blame" | "changes" => "compare --against REV",
        "read" | "query" | "lookup" => "get",
        "new" | "create" | "setup" => "init",
        "ping" | "connect" | "doctor" | "health" => "probe",
        "observe" | "detect" | "live" => "drift",
        "tutorial" | "example" | "walkthrough" => "demo",
        "deploy" | "apply" | "push" | "publish" | "release" | "rollout" => "deliver",
        "rollback" | "revert" | "undo" => "deliver --again NUMBER",
        "undeploy" | "unpublish" | "uninstall" | "retract" => "withdraw",
        "log" | "journal" | "events" => "history",
        "snapshot" | "dump" | "backup" => "capture",
        "upgrade" | "advance" => "promote",
        "overview" | "dashboard" | "summary" => "status",
        _ => return None,
    };
    let named: Vec<&str> = command.split(' ').take_while(|word| !word.starts_with("--")).collect();
    Some(format!("`cledger {command}` does that: see `cledger {} --help`", named.join(" ")))
}
