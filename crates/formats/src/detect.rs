//! Telling a file's format by its name, and where that leaves several, by what is in it.

use cledger_core::model::OutputFormat;

use crate::found::Node;
use crate::{Format as _, dotenv, yaml};
use cledger_core::value::Value;

/// The format of a file; `None` if its name does not tell.
pub fn detect(name: &str, text: &str) -> Option<OutputFormat> {
    let name = name.rsplit('/').next().unwrap_or(name);
    let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending).to_ascii_lowercase();
    Some(match ending.as_str() {
        "properties" => OutputFormat::Properties,
        "json" => OutputFormat::Json,
        "yaml" | "yml" => of_yaml(text),
        "toml" => OutputFormat::Toml,
        "ini" | "cfg" => OutputFormat::Ini,
        "xml" => OutputFormat::Xml,
        "sh" => OutputFormat::Shell,
        _ if ending == "env" || name.starts_with(".env") => of_environment(text),
        _ => return None,
    })
}

fn of_yaml(text: &str) -> OutputFormat {
    let documents = yaml::documents(text).unwrap_or_default();
    let kinds: Vec<Option<OutputFormat>> = documents.iter().map(manifest).collect();
    match kinds.first() {
        Some(Some(first)) if kinds.iter().all(Option::is_some) => *first,
        _ => OutputFormat::Yaml,
    }
}

/// Which manifest a document is, if it is one.
fn manifest(document: &Node) -> Option<OutputFormat> {
    let Node::Level(names) = document else { return None };
    let kind = names.iter().find_map(|(name, _, node)| match node {
        Node::Value(Value::Text(kind)) if name == "kind" => Some(kind.as_str()),
        _ => None,
    });
    let is_manifest = names.iter().any(|(name, ..)| name == "apiVersion");
    match kind.filter(|_| is_manifest) {
        Some("ConfigMap") => Some(OutputFormat::K8sConfig),
        Some("Secret") => Some(OutputFormat::K8sSecret),
        _ => None,
    }
}

/// Lines that are exported are for a shell; what cannot be read with quotes has none.
fn of_environment(text: &str) -> OutputFormat {
    let mut lines =
        text.lines().map(str::trim_start).filter(|line| !line.is_empty() && !line.starts_with('#'));
    if lines.clone().count() > 0 && lines.all(|line| line.starts_with("export ")) {
        return OutputFormat::Shell;
    }
    if dotenv::Dotenv.read(text).is_ok() { OutputFormat::Dotenv } else { OutputFormat::EnvPlain }
}
