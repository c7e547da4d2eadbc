//! Namespaces, tokens, activity, sign-in links.

use std::path::Path;

use serde_json::json;
use verax_api::{
    CreateNamespace, CreateToken, Interval, Namespace, OriginChoice, Policy, PolicyChange,
    RotateToken,
};
use verax_client::Client;

use super::advice::advice;
use super::entries::namespace as handle;
use crate::arguments::{NamespaceCommand, NamespacePath, NodeCommand, PolicyFlags, TokenCommand};
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, confirm, table};

/// The longest max-age that there is, in seconds.
const TEN_YEARS: f64 = 315_360_000.0;

/// Seconds as people write them: whole ones without a point.
fn seconds(number: f64) -> String {
    if number.fract() == 0.0 {
        figures::time(std::time::Duration::from_secs_f64(number))
    } else {
        format!("{number}s")
    }
}

pub(super) fn moment(at: jiff::Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// The schema in a file; `none` removes it.
fn schema_of(file: &Path) -> Result<Option<String>, Failure> {
    if file == Path::new("none") {
        return Ok(None);
    }
    let text = std::fs::read_to_string(file);
    text.map(Some).map_err(|e| Failure::usage(format!("the schema {}: {e}", file.display())))
}

fn policy_of(flags: PolicyFlags) -> Result<PolicyChange, Failure> {
    let content_schema = flags.content_schema.as_deref().map(schema_of).transpose()?;
    let seconds = |time: Option<std::time::Duration>| time.map(|t| t.as_secs_f64());
    Ok(PolicyChange {
        content_schema,
        max_age_seconds: seconds(flags.lifetime.max_age),
        stale_while_revalidate_seconds: seconds(flags.lifetime.stale_while_revalidate),
        stale_if_error_seconds: seconds(flags.lifetime.stale_if_error),
        shortest_max_age_seconds: seconds(flags.shortest_max_age),
        longest_max_age_seconds: seconds(flags.longest_max_age),
        content: flags.content,
        compress_above_bytes: flags.compress_above.map(|limit| limit.0),
        jitter_percent: flags.jitter,
        negative_max_age_seconds: seconds(flags.negative_max_age),
        early_refresh_percent: flags.early_refresh,
        write_through: flags.write_through,
        max_value_bytes: flags.max_value,
        reserve_bytes: flags.reserve,
        cap_bytes: flags.cap.map(|limit| limit.0),
        bypass_seconds: None,
        intervals: intervals_of(flags.remove_every, flags.refresh_every, flags.no_intervals),
        max_entries: flags.max_entries.map(|limit| limit.0),
        requests_per_second: flags.max_request_rate.map(|limit| limit.0),
        bytes_per_second: flags.max_byte_rate.map(|limit| limit.0),
        origin: flags
            .origin
            .map(|name| Some(OriginChoice { name, key_pattern: flags.key_pattern })),
    })
}

/// The intervals that replace those before; `None` to keep them.
fn intervals_of(
    removed: Vec<Interval>,
    refreshed: Vec<Interval>,
    ended: bool,
) -> Option<Vec<Interval>> {
    let refreshed = refreshed.into_iter().map(|interval| Interval { refresh: true, ..interval });
    let all: Vec<Interval> = removed.into_iter().chain(refreshed).collect();
    (ended || !all.is_empty()).then_some(all)
}

/// The intervals in words.
fn intervals(policy: &Policy) -> String {
    let words = policy.intervals.iter().map(|interval| {
        let what = match (&interval.tag, &interval.prefix) {
            (Some(tag), _) => format!("tag {tag}"),
            (_, Some(prefix)) => format!("prefix {prefix}"),
            _ => "all".to_owned(),
        };
        let outcome = if interval.refresh { "refreshed" } else { "removed" };
        format!("{what} {outcome} every {}", seconds(interval.every_seconds))
    });
    let all: Vec<String> = words.collect();
    if all.is_empty() { "–".to_owned() } else { all.join("; ") }
}

fn namespace_row(n: &Namespace) -> Vec<String> {
    let origin = n.policy.origin.as_ref();
    vec![
        format!("{}/{}", n.tenant, n.name),
        figures::count(n.usage.entries),
        figures::bytes(n.usage.bytes),
        seconds(n.policy.max_age_seconds),
        figures::bytes(n.policy.max_value_bytes),
        origin.map_or_else(|| "–".into(), |o| o.name.clone()),
        origin.and_then(|o| o.key_pattern.clone()).unwrap_or_else(|| "–".into()),
    ]
}

fn namespace_table(namespaces: &[Namespace]) -> String {
    let titles =
        ["namespace", ">entries", ">memory", ">max-age", ">max value", "origin", "key pattern"];
    table(&titles, namespaces.iter().map(namespace_row))
}

fn early(percent: u16) -> String {
    match percent {
        0 => "off".to_owned(),
        percent => format!("at {percent} % of the published factor"),
    }
}

pub(super) fn per_second(figure: String) -> String {
    format!("{figure} a second")
}

pub(super) fn none_or(figure: Option<String>) -> String {
    figure.unwrap_or_else(|| "–".into())
}

/// Whether reads go past the cache.
fn bypass(policy: &Policy) -> String {
    let until = policy.bypass_until.filter(|until| *until > jiff::Timestamp::now());
    until.map_or_else(|| "off".to_owned(), |until| format!("UNTIL {}", moment(until)))
}

/// The bounds of the max-age that callers give.
fn bounds(policy: &Policy) -> String {
    let (shortest, longest) = (policy.shortest_max_age_seconds, policy.longest_max_age_seconds);
    match (shortest > 0.0, longest < TEN_YEARS) {
        (false, false) => "–".to_owned(),
        (_, true) => format!("{} to {}", seconds(shortest), seconds(longest)),
        (true, false) => format!("{} or more", seconds(shortest)),
    }
}

/// The content rule in words.
fn content(policy: &Policy) -> String {
    match &policy.content_schema {
        Some(schema) => {
            format!("{}, with a schema of {}", policy.content, figures::bytes(schema.len() as u64))
        }
        None => policy.content.clone(),
    }
}

fn namespace_lines(n: &Namespace) -> String {
    let origin = n.policy.origin.as_ref().map_or_else(
        || "– (services refill the entries)".to_owned(),
        |o| format!("{}, keys like {}", o.name, o.key_pattern.as_deref().unwrap_or("{key}")),
    );
    let policy = &n.policy;
    [
        ("namespace", format!("{}/{}", n.tenant, n.name)),
        ("entries", figures::count(n.usage.entries)),
        ("memory", figures::bytes(n.usage.bytes)),
        ("max-age", seconds(policy.max_age_seconds)),
        ("bounds of max-age", bounds(policy)),
        ("stale-while-revalidate", seconds(policy.stale_while_revalidate_seconds)),
        ("stale-if-error", seconds(policy.stale_if_error_seconds)),
        ("jitter", format!("{} %", policy.jitter_percent)),
        ("negative max-age", seconds(policy.negative_max_age_seconds)),
        ("early refresh", early(policy.early_refresh_percent)),
        ("write-through", if policy.write_through { "on" } else { "off" }.to_owned()),
        ("bypass", bypass(policy)),
        ("content", content(policy)),
        ("compress above", figures::bytes_or_none(policy.compress_above_bytes)),
        ("intervals", intervals(policy)),
        ("max value", figures::bytes(policy.max_value_bytes)),
        ("reserve", figures::bytes(policy.reserve_bytes)),
        ("cap", figures::bytes_or_none(policy.cap_bytes)),
        ("max entries", none_or(policy.max_entries.map(figures::count))),
        (
            "max request rate",
            none_or(policy.requests_per_second.map(|n| per_second(figures::count(n)))),
        ),
        ("max byte rate", none_or(policy.bytes_per_second.map(|n| per_second(figures::bytes(n))))),
        ("origin", origin),
        ("created", moment(n.created_at)),
    ]
    .map(|(name, text)| format!("{name:<23} {text}"))
    .join("\n")
}

pub(super) async fn namespace(
    verax: &Client,
    output: Output,
    command: NamespaceCommand,
) -> Result<(), Failure> {
    match command {
        NamespaceCommand::Create { place: NamespacePath { tenant, name }, policy } => {
            let request = CreateNamespace { name, policy: policy_of(policy)? };
            let namespace = verax.create_namespace(&tenant, &request).await?;
            output.answer(&namespace, |n| {
                format!("created namespace {}/{}\n{}", n.tenant, n.name, namespace_lines(n))
            })
        }
        NamespaceCommand::List { tenant } => {
            let namespaces = match tenant {
                Some(tenant) => verax.namespaces(&tenant).await?,
                None => verax.all_namespaces().await?,
            };
            output.answer(&namespaces, |n| namespace_table(n))
        }
        NamespaceCommand::Advice { place } => advice(verax, output, &place).await,
        NamespaceCommand::Show { place } => {
            output.answer(&handle(verax, &place)?.info().await?, namespace_lines)
        }
        NamespaceCommand::Change { place, policy, no_origin } => {
            let mut change = policy_of(policy)?;
            if no_origin {
                change.origin = Some(None);
            }
            if change == PolicyChange::default() {
                return Err(Failure::usage(
                    "nothing to change: give at least one part of the policy",
                ));
            }
            let namespace = handle(verax, &place)?.change(&change).await?;
            output.answer(&namespace, |n| format!("changed\n{}", namespace_lines(n)))
        }
        NamespaceCommand::Bypass { place, length, end: _ } => {
            let seconds = length.map_or(0.0, |length| length.as_secs_f64());
            let change = PolicyChange { bypass_seconds: Some(seconds), ..Default::default() };
            let namespace = handle(verax, &place)?.change(&change).await?;
            output.answer(&namespace, |n| match n.policy.bypass_until {
                Some(until) => format!(
                    "reads of {}/{} go to the origin until {}",
                    n.tenant,
                    n.name,
                    moment(until)
                ),
                None => format!("reads of {}/{} come from the cache", n.tenant, n.name),
            })
        }
        NamespaceCommand::Delete { place, yes } => {
            let namespace = handle(verax, &place)?;
            let NamespacePath { tenant, name } = &place;
            if !yes {
                let held = figures::count(namespace.info().await?.usage.entries);
                confirm(false, &format!("this deletes {tenant}/{name} with its {held} entries"))?;
            }
            namespace.delete_namespace().await?;
            output.answer(&json!({ "deleted": format!("{tenant}/{name}") }), |_| {
                format!("deleted namespace {tenant}/{name}")
            })
        }
    }
}

pub(super) async fn token(
    verax: &Client,
    output: Output,
    command: TokenCommand,
) -> Result<(), Failure> {
    match command {
        TokenCommand::Create { scopes, note, expires_in } => {
            let expires_in_seconds = expires_in.map(|time| time.as_secs_f64());
            let request = CreateToken { scopes, note, expires_in_seconds };
            let created = verax.create_token(&request).await?;
            output.answer(&created, |c| c.secret.clone())?;
            output.remark(format!(
                "token {} has the scopes {}; it is shown only once, so store it now",
                created.token.id,
                created.token.scopes.join(", ")
            ));
            Ok(())
        }
        TokenCommand::Rotate { id, overlap } => {
            let overlap_seconds = overlap.map(|time| time.as_secs_f64());
            let rotated = verax.rotate_token(id, &RotateToken { overlap_seconds }).await?;
            output.answer(&rotated, |rotated| rotated.secret.clone())?;
            let ends = rotated.previous.expires_at.map_or_else(|| "now".into(), moment);
            output.remark(format!(
                "token {} replaces token {id}, which ends at {ends}; it is shown only once, so store it now",
                rotated.token.id
            ));
            Ok(())
        }
        TokenCommand::List => {
            let tokens = verax.tokens().await?;
            output.answer(&tokens, |tokens| {
                let row = |t: &verax_api::Token| {
                    vec![
                        t.id.to_string(),
                        t.scopes.join(", "),
                        t.note.clone(),
                        moment(t.created_at),
                        t.last_used_at.map_or_else(|| "–".into(), moment),
                        match (t.revoked_at, t.expires_at) {
                            (Some(at), _) => format!("revoked {}", moment(at)),
                            (None, Some(at)) if at <= jiff::Timestamp::now() => {
                                format!("expired {}", moment(at))
                            }
                            (None, Some(at)) => moment(at),
                            (None, None) => "–".into(),
                        },
                    ]
                };
                let head = [">token", "scopes", "note", "created", "last used", "ends"];
                table(&head, tokens.iter().map(row))
            })
        }
        TokenCommand::Revoke { id } => {
            verax.revoke_token(id).await?;
            output.answer(&json!({ "revoked": id }), |_| format!("revoked token {id}"))
        }
    }
}

pub(super) async fn node(
    verax: &Client,
    output: Output,
    command: NodeCommand,
) -> Result<(), Failure> {
    let NodeCommand::List = command;
    output.answer(&verax.nodes().await?, |nodes| {
        let or_unknown = |address: &str| match address {
            "" => "not stated".to_owned(),
            address => address.to_owned(),
        };
        let row = |node: &verax_api::Node| {
            vec![
                node.id[..8].to_owned(),
                node.state.clone(),
                or_unknown(&node.http),
                or_unknown(&node.wire),
                node.version.clone(),
                if node.this { "answered this" } else { "" }.to_owned(),
            ]
        };
        table(&["node", "state", "http", "wire", "version", ""], nodes.iter().map(row))
    })
}

pub(super) async fn sign_in(verax: &Client, output: Output) -> Result<(), Failure> {
    let link = verax.sign_in_link().await?;
    let url = verax.url().join(&link.path).map_err(|e| Failure::failed(e.to_string()))?;
    output.answer(&json!({ "url": url.as_str(), "seconds": link.seconds }), |_| url.to_string())?;
    output.remark(format!("the link works once, within {} minutes", link.seconds / 60));
    Ok(())
}
