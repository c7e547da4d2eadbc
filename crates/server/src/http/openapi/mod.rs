//! How the interface's description (OpenAPI 3.1) is derived from handlers and types. Only tests
//! derive it: they keep `docs/openapi.json`, which the service embeds and serves, current.

mod bounds;

use utoipa::openapi::path::Operation;
use utoipa::openapi::schema::{AdditionalProperties, ArrayItems};
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use utoipa::openapi::{Content, Ref, RefOr, Response, Schema};
use utoipa::{Modify, OpenApi};

use crate::http::{
    administration, batches, browse, counters, damage, description, drills, entries, health, live,
    load_profiles, load_workers, locks, metrics, nodes, permits, rate_limits, recordings, runs,
    schedules, sessions, stand_in, tags, usage, waiting, warm,
};

#[derive(OpenApi)]
#[openapi(
    info(title = "Verax", description = "A shared cache as a service."),
    paths(
        entries::read, entries::put, entries::change_lifetime, entries::delete, browse::list, browse::search, browse::check, entries::clear,
        damage::report, damage::reports,
        batches::batch, tags::invalidate, counters::add, rate_limits::acquire,
        permits::acquire, permits::await_refill, permits::release, permits::list,
        locks::acquire, locks::show, locks::renew, locks::release, locks::list,
        administration::tenants, administration::create_tenant, administration::delete_tenant,
        administration::tenant, administration::change_tenant,
        administration::origins, administration::create_origin, administration::origin, administration::change_origin, administration::delete_origin,
        administration::namespaces, administration::all_namespaces, administration::create_namespace, administration::namespace,
        administration::change_namespace, administration::delete_namespace,
        administration::tokens, administration::create_token, administration::revoke_token,
        administration::rotate_token,
        administration::activity,
        sessions::start, sessions::show, sessions::end, sessions::list, sessions::end_other, sessions::new_link,
        live::samples, waiting::live, usage::history, usage::lifetime_advice, usage::memory_curve, usage::memory_division,
        warm::all_plans, warm::plans, warm::plan, warm::put_plan, warm::delete_plan, warm::run_plan, warm::estimate_plan,
        warm::start, warm::estimate, warm::recent, warm::show, warm::change, warm::stop, warm::watch, warm::failures, warm::hot,
        schedules::all, schedules::list, schedules::show, schedules::put, schedules::change, schedules::delete,
        schedules::run, schedules::slots, schedules::preview,
        stand_in::stand_in, stand_in::change_stand_in, load_profiles::profiles, load_profiles::profile, load_profiles::put_profile,
        load_profiles::delete_profile, load_profiles::set_baseline, runs::export_load,
        runs::compare_load, runs::import_load, runs::recent_load, runs::start_load, runs::load, runs::stop_load,
        runs::watch_load, runs::change_load, runs::mark_load, load_workers::joined, load_workers::join,
        recordings::recent, recordings::start,
        recordings::show, recordings::stop, recordings::watch,
        drills::specs, drills::recent, drills::start, drills::show, drills::watch,
        health::healthz, health::readyz, nodes::list, metrics::show, description::show,
    ),
    modifiers(&Bearer, &Complete),
    security(("token" = []))
)]
struct Description;

struct Bearer;

impl Modify for Bearer {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let scheme = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
        openapi.components.get_or_insert_default().add_security_scheme("token", scheme);
    }
}

/// Completes every operation: a name, the failures any operation may return, their media type, and
/// a description of each status.
struct Complete;

impl Modify for Complete {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        for path in openapi.paths.paths.values_mut() {
            let methods = [&mut path.get, &mut path.put, &mut path.post];
            let more = [&mut path.delete, &mut path.patch];
            methods.into_iter().chain(more).flatten().for_each(complete);
        }
        let shapes = &mut openapi.components.get_or_insert_default().schemas;
        for (shape, member, of) in bounds::members() {
            if let Some(shape) = shapes.get_mut(shape) {
                bounds::bound_member(shape, member, &of);
            }
        }
        for (whole, part) in [("WarmPlan", "WarmPlanSpec"), ("Schedule", "ScheduleSpec")] {
            let Some(mut open) = shapes.get(part).cloned() else { continue };
            leave_open(&mut open);
            for name in [whole.to_owned(), format!("Items_{whole}")] {
                if let Some(shape) = shapes.get_mut(&name) {
                    replace_part(shape, part, &open);
                }
            }
        }
        for choice in [
            "BatchOperation",
            "WarmValues",
            "WarmRows",
            "KeySource",
            "ScheduledAction",
            "CreateSession",
        ] {
            if let Some(RefOr::T(Schema::OneOf(choice))) = shapes.get_mut(choice) {
                choice.items.iter_mut().for_each(close);
            }
        }
    }
}

/// Replaces a named part of shapes that are made of several, wherever they are in a shape.
fn replace_part(shape: &mut RefOr<Schema>, part: &str, by: &RefOr<Schema>) {
    let RefOr::T(schema) = shape else { return };
    match schema {
        Schema::AllOf(whole) => {
            for item in &mut whole.items {
                if let RefOr::Ref(named) = item
                    && named.ref_location.ends_with(part)
                {
                    item.clone_from(by);
                }
            }
        }
        Schema::Object(object) => {
            object.properties.values_mut().for_each(|member| replace_part(member, part, by));
        }
        Schema::Array(array) => {
            if let ArrayItems::RefOrSchema(items) = &mut array.items {
                replace_part(items, part, by);
            }
        }
        _ => {}
    }
}

/// A shape that another one is made of: it may have members beside those of this one.
fn leave_open(shape: &mut RefOr<Schema>) {
    if let RefOr::T(Schema::Object(object)) = shape {
        object.additional_properties = None;
    }
}

/// A variant that is told apart by its only member.
fn close(shape: &mut RefOr<Schema>) {
    if let RefOr::T(Schema::Object(object)) = shape {
        object.additional_properties = Some(Box::new(AdditionalProperties::FreeForm(false)));
    }
}

fn complete(operation: &mut Operation) {
    // Handlers of different modules may share a name; within a tag they do not.
    if let (Some(tags), Some(id)) = (&operation.tags, &operation.operation_id) {
        operation.operation_id = tags.first().map(|tag| format!("{tag}-{id}"));
    }
    let of_activity = operation.tags.iter().flatten().any(|tag| tag == "activity");
    for parameter in operation.parameters.iter_mut().flatten() {
        if let RefOr::T(parameter) = parameter {
            bounds::bound_parameter(parameter, of_activity);
        }
    }
    let answers = &mut operation.responses.responses;
    // Operations that declare it are open to all.
    if operation.security.is_none() {
        for status in ["401", "403", "503"] {
            answers.entry(status.to_owned()).or_insert_with(|| Response::new("").into());
        }
    }
    answers.entry("default".to_owned()).or_insert_with(|| Response::new("").into());
    for (status, answer) in answers {
        let RefOr::T(answer) = answer else { continue };
        let failure = status == "default" || status.as_str() >= "400";
        if failure {
            let problem = answer.content.shift_remove("application/json").unwrap_or_else(|| {
                let named = Ref::from_schema_name("Problem");
                Content::builder().schema(Some(named)).build().into()
            });
            // An unready service is not a failed request: it has a description of its own.
            let media = if is_problem(&problem) { PROBLEM } else { "application/json" };
            answer.content.insert(media.to_owned(), problem);
        }
        if answer.description.is_empty() {
            answer.description = words(status).to_owned();
        }
    }
}

const PROBLEM: &str = "application/problem+json";

fn is_problem(content: &RefOr<Content>) -> bool {
    let RefOr::T(content) = content else { return false };
    matches!(&content.schema, Some(RefOr::Ref(named)) if named.ref_location.ends_with("/Problem"))
}

/// The default description of a status.
fn words(status: &str) -> &'static str {
    match status {
        "200" => "what was asked for",
        "201" => "what was created",
        "202" => "it was started",
        "204" => "done",
        "401" => "the token is missing or invalid",
        "403" => "the token lacks a scope",
        "404" => "there is no such thing",
        "409" => "what is there stands in the way",
        "422" => "something that is asked for is invalid",
        "503" => "not at the moment: see Retry-After",
        _ => "any other failure; its `type` says which",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Checks that names are unique, path parameters match the path, every response is described,
    /// and every failure is a problem.
    #[test]
    fn every_operation_is_fully_described() {
        let written = serde_json::to_value(Description::openapi()).unwrap();
        let mut names = std::collections::HashSet::new();
        for (path, methods) in written["paths"].as_object().unwrap() {
            let in_path: Vec<&str> = path
                .split('/')
                .filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'))
                .collect();
            for (method, operation) in methods.as_object().unwrap() {
                let name = operation["operationId"].as_str().unwrap();
                assert!(names.insert(name.to_owned()), "{name} is used twice");
                let given = operation["parameters"].as_array().into_iter().flatten();
                let mut given: Vec<&str> = given
                    .filter(|parameter| parameter["in"] == "path")
                    .map(|parameter| parameter["name"].as_str().unwrap())
                    .collect();
                let mut wanted = in_path.clone();
                given.sort_unstable();
                wanted.sort_unstable();
                assert_eq!(given, wanted, "{method} {path}");
                for (status, answer) in operation["responses"].as_object().unwrap() {
                    let text = answer["description"].as_str().unwrap_or_default();
                    assert!(!text.is_empty(), "{method} {path} does not describe {status}");
                    let failure = status.as_str() >= "400" && path != "/readyz";
                    let problem = answer["content"]["application/problem+json"].is_object();
                    assert_eq!(problem, failure || status == "default", "{method} {path} {status}");
                }
            }
        }
    }

    #[test]
    fn every_bounded_member_is_described() {
        let shapes = &mut Description::openapi().components.unwrap().schemas;
        for (shape, member, of) in bounds::members() {
            let there = shapes.get_mut(shape).is_some_and(|s| bounds::bound_member(s, member, &of));
            assert!(there, "{shape} has no {member}, or it is of another kind");
        }
    }

    /// The console's types and the documentation are generated from this file. `make openapi`
    /// writes it.
    #[test]
    fn the_written_description_is_current() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
        let current = Description::openapi().to_pretty_json().unwrap() + "\n";
        if std::env::var_os("VERAX_WRITE_OPENAPI").is_some() {
            std::fs::write(path, &current).unwrap();
        }
        let written = std::fs::read_to_string(path).unwrap_or_default();
        assert!(written == current, "docs/openapi.json is out of date: run `make openapi`");
    }

    /// Collects the names of the schemas that a value refers to, and has it refer to `$defs`.
    fn refer_to_definitions(value: &mut serde_json::Value, names: &mut Vec<String>) {
        match value {
            serde_json::Value::Object(members) => {
                for (name, member) in members {
                    match (name.as_str(), member) {
                        ("$ref", serde_json::Value::String(path)) => {
                            let name = path.rsplit('/').next().unwrap().to_owned();
                            *path = format!("#/$defs/{name}");
                            names.push(name);
                        }
                        (_, member) => refer_to_definitions(member, names),
                    }
                }
            }
            serde_json::Value::Array(items) => {
                items.iter_mut().for_each(|item| refer_to_definitions(item, names));
            }
            _ => {}
        }
    }

    /// Editors check load profiles by this file. `make openapi` writes it.
    #[test]
    fn the_written_description_of_load_profiles_is_current() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/load-profile.schema.json");
        let description = serde_json::to_value(Description::openapi()).unwrap();
        let schemas = &description["components"]["schemas"];
        let (mut root, mut wanted) = (schemas["LoadProfileSpec"].clone(), Vec::new());
        refer_to_definitions(&mut root, &mut wanted);
        let mut definitions = serde_json::Map::new();
        while let Some(name) = wanted.pop() {
            if !definitions.contains_key(&name) {
                let mut definition = schemas[&name].clone();
                refer_to_definitions(&mut definition, &mut wanted);
                definitions.insert(name, definition);
            }
        }
        root["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
        root["title"] = "A Verax load profile".into();
        root["$defs"] = definitions.into();
        if std::env::var_os("VERAX_WRITE_OPENAPI").is_some() {
            let text = serde_json::to_string_pretty(&root).unwrap() + "\n";
            std::fs::write(path, text).unwrap();
        }
        // The order of members depends on how this is built.
        let written = std::fs::read_to_string(path).unwrap();
        let written: serde_json::Value = serde_json::from_str(&written).unwrap();
        assert!(
            written == root,
            "docs/load-profile.schema.json is out of date: run `make openapi`"
        );
    }
}
