//! `logothete check`

use std::io::Read;

use logothete::verify::Verdict;
use logothete::{CheckReport, ClaimPair, Config, Error, ErrorKind, Pipeline, Result, pair_measures};
use serde_json::json;

use super::{configuration, corpus};
use crate::args::{CheckArguments, CorpusArguments};
use crate::view::{Style, checked_pairs, checked_text, verdict_measures};
use crate::{DONE, IN_PART, Output};

pub async fn run(at: &CorpusArguments, arguments: &CheckArguments) -> Result<Output> {
    let style = Style::of_stdout();
    if let Some(file) = &arguments.pairs {
        let (config, _) = configuration(at)?;
        let name = file.display().to_string();
        let pairs = ClaimPair::read(&read(&name)?).map_err(|error| error.at(&name))?;
        let checks = Pipeline::from_config(&config)?.check_pairs(&pairs)?;
        let code = code(checks.iter().map(|check| check.verdict));
        let measures = pair_measures(&pairs, &checks);
        let mut text = checked_pairs(&pairs, &checks, style);
        let mut json = json!({ "checks": checks });
        if let Some(measures) = measures {
            text.push_str(&format!("\n{}", verdict_measures(&measures, style)));
            json["measures"] = json!(measures);
        }
        return Ok(Output { text, json, code });
    }
    let name = arguments.file.as_deref().unwrap_or("-");
    let text = read(name)?;
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    let report: CheckReport = corpus.check(if name == "-" { "text" } else { name }, text).await?;
    let code = code(report.claims.iter().map(|claim| claim.verdict));
    Ok(Output { text: checked_text(&report, arguments.all, style), json: json!(report), code })
}

/// Measures the verdicts on claims that come with their sources.
pub fn measured(config: &Config, pairs: &[ClaimPair]) -> Result<Output> {
    let checks = Pipeline::from_config(config)?.check_pairs(pairs)?;
    let Some(measures) = pair_measures(pairs, &checks) else {
        let message = "no line says which \"verdict\" is expected; logothete check --pairs checks such lines";
        return Err(Error::new(ErrorKind::InvalidRequest, message));
    };
    Ok(Output {
        text: verdict_measures(&measures, Style::of_stdout()),
        json: json!({ "measures": measures }),
        code: DONE,
    })
}

fn code(mut verdicts: impl Iterator<Item = Verdict>) -> u8 {
    if verdicts.any(|verdict| verdict == Verdict::Contradicted) { IN_PART } else { DONE }
}

/// Reads a file, or standard input.
fn read(name: &str) -> Result<String> {
    let problem = |error: std::io::Error| {
        let message = if error.kind() == std::io::ErrorKind::InvalidData {
            "this is no text in UTF-8"
        } else {
            "this cannot be read"
        };
        Error::new(ErrorKind::NotFound, message).at(name).because(error)
    };
    if name != "-" {
        return std::fs::read_to_string(name).map_err(problem);
    }
    let mut text = String::new();
    std::io::stdin().lock().read_to_string(&mut text).map_err(problem)?;
    Ok(text)
}
