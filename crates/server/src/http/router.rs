//! Maps paths and methods to handlers.

use std::sync::Arc;

use axum::Router;
use verax_service::Service;

use super::routes::{Routes, delete, get, post, put};
use super::{
    administration, batches, browse, console, counters, damage, description, drills, entries,
    health, live, load_profiles, load_workers, locks, metrics, nodes, permits, problem,
    rate_limits, recordings, runs, schedules, sessions, stand_in, tags, usage, waiting, warm,
};

const NAMESPACE: &str = "/v1/tenants/{tenant}/namespaces/{namespace}";
const ENTRIES: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/entries";
const NO_KEY: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/entries/";
const ENTRY: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/entries/{key}";
const COUNTER: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/counters/{key}";
const RATE_LIMIT: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/rate-limits/{key}";
const LOCK: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/locks/{key}";
const LOCKS: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/locks";
const PERMIT: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/permits/{key}";
const WANTED_REFILLS: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/wanted-refills";
const PERMITS: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/permits";
const TAG: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/tags/{tag}";
const BATCH: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/batch";
const SEARCHES: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/searches";
const DAMAGE: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/damage-reports";
const ADVICE: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/lifetime-advice";
const MEMORY_CURVE: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/memory-curve";
const WARM_RUNS: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/warm-runs";
const WARM_ESTIMATES: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/warm-estimates";
const HOT_KEYS: &str = "/v1/tenants/{tenant}/namespaces/{namespace}/hot-keys";
const WARM_PLAN: &str = "/v1/tenants/{tenant}/warm-plans/{plan}";
const SCHEDULE: &str = "/v1/tenants/{tenant}/schedules/{schedule}";

/// The routes of the HTTP interface.
pub(super) fn router(service: Arc<Service>) -> Router {
    // One flat table of routes: nested routers would rewrite every request's URI.
    Routes::new()
        .route(
            ENTRY,
            get(entries::read)
                .put(entries::put)
                .patch(entries::change_lifetime)
                .delete(entries::delete),
        )
        .route(COUNTER, post(counters::add))
        .route(RATE_LIMIT, post(rate_limits::acquire))
        .route(
            LOCK,
            post(locks::acquire).get(locks::show).patch(locks::renew).delete(locks::release),
        )
        .route(LOCKS, get(locks::list))
        .route(PERMIT, post(permits::acquire).delete(permits::release))
        .route(PERMITS, get(permits::list))
        .route(WANTED_REFILLS, post(permits::await_refill))
        .route(TAG, delete(tags::invalidate))
        .route(BATCH, post(batches::batch))
        // An empty key would otherwise look like an unknown path.
        .route(NO_KEY, get(entries::no_key).put(entries::no_key).delete(entries::no_key))
        .route(ENTRIES, get(browse::list).delete(entries::clear))
        .route("/v1/tenants/{tenant}/namespaces/{namespace}/checks", post(browse::check))
        .route(SEARCHES, post(browse::search))
        .route(DAMAGE, get(damage::reports).post(damage::report))
        .route(
            NAMESPACE,
            get(administration::namespace)
                .patch(administration::change_namespace)
                .delete(administration::delete_namespace),
        )
        .route(ADVICE, get(usage::lifetime_advice))
        .route(MEMORY_CURVE, get(usage::memory_curve))
        .route("/v1/memory-division", get(usage::memory_division))
        .route(WARM_RUNS, post(warm::start))
        .route(WARM_ESTIMATES, post(warm::estimate))
        .route(HOT_KEYS, get(warm::hot))
        .route("/v1/warm-plans", get(warm::all_plans))
        .route("/v1/tenants/{tenant}/warm-plans", get(warm::plans))
        .route(WARM_PLAN, get(warm::plan).put(warm::put_plan).delete(warm::delete_plan))
        .route("/v1/tenants/{tenant}/warm-plans/{plan}/runs", post(warm::run_plan))
        .route("/v1/tenants/{tenant}/warm-plans/{plan}/estimates", post(warm::estimate_plan))
        .route("/v1/schedules", get(schedules::all))
        .route("/v1/schedule-previews", post(schedules::preview))
        .route("/v1/tenants/{tenant}/schedules", get(schedules::list))
        .route(
            SCHEDULE,
            get(schedules::show)
                .put(schedules::put)
                .patch(schedules::change)
                .delete(schedules::delete),
        )
        .route("/v1/tenants/{tenant}/schedules/{schedule}/runs", post(schedules::run))
        .route("/v1/tenants/{tenant}/schedules/{schedule}/slots", get(schedules::slots))
        .route("/v1/tenants", get(administration::tenants).post(administration::create_tenant))
        .route(
            "/v1/tenants/{tenant}",
            get(administration::tenant)
                .patch(administration::change_tenant)
                .delete(administration::delete_tenant),
        )
        .route(
            "/v1/tenants/{tenant}/origins",
            get(administration::origins).post(administration::create_origin),
        )
        .route(
            "/v1/tenants/{tenant}/origins/{origin}",
            get(administration::origin)
                .delete(administration::delete_origin)
                .patch(administration::change_origin),
        )
        .route(
            "/v1/tenants/{tenant}/namespaces",
            get(administration::namespaces).post(administration::create_namespace),
        )
        .route("/v1/namespaces", get(administration::all_namespaces))
        .route("/v1/tokens", get(administration::tokens).post(administration::create_token))
        .route("/v1/tokens/{id}", delete(administration::revoke_token))
        .route("/v1/tokens/{id}/rotate", post(administration::rotate_token))
        .route("/v1/nodes", get(nodes::list))
        .route("/v1/activity", get(administration::activity))
        .route("/v1/usage", get(usage::history))
        .route("/v1/session", post(sessions::start).get(sessions::show).delete(sessions::end))
        .route("/v1/sessions", get(sessions::list))
        .route("/v1/sessions/{id}", delete(sessions::end_other))
        .route("/v1/sign-in-links", post(sessions::new_link))
        .route("/v1/live", get(live::samples))
        .route("/v1/waiting/live", get(waiting::live))
        .route("/v1/warm-runs", get(warm::recent))
        .route("/v1/warm-runs/{id}", get(warm::show).patch(warm::change).delete(warm::stop))
        .route("/v1/warm-runs/{id}/live", get(warm::watch))
        .route("/v1/warm-runs/{id}/failures", get(warm::failures))
        .route("/v1/stand-in", get(stand_in::stand_in).patch(stand_in::change_stand_in))
        .route("/v1/load-profiles", get(load_profiles::profiles))
        .route(
            "/v1/tenants/{tenant}/load-profiles/{profile}",
            get(load_profiles::profile)
                .put(load_profiles::put_profile)
                .delete(load_profiles::delete_profile),
        )
        .route(
            "/v1/tenants/{tenant}/load-profiles/{profile}/baseline",
            put(load_profiles::set_baseline),
        )
        .route("/v1/load-workers", get(load_workers::joined).post(load_workers::join))
        .route("/v1/load-runs/{id}/export", get(runs::export_load))
        .route("/v1/load-runs/{id}/comparison", get(runs::compare_load))
        .route("/v1/imported-load-runs", post(runs::import_load))
        .route("/v1/load-runs", get(runs::recent_load).post(runs::start_load))
        .route(
            "/v1/load-runs/{id}",
            get(runs::load).patch(runs::change_load).delete(runs::stop_load),
        )
        .route("/v1/load-runs/{id}/marks", post(runs::mark_load))
        .route("/v1/load-runs/{id}/live", get(runs::watch_load))
        .route("/v1/traffic-recordings", get(recordings::recent).post(recordings::start))
        .route("/v1/traffic-recordings/{id}", get(recordings::show).delete(recordings::stop))
        .route("/v1/traffic-recordings/{id}/live", get(recordings::watch))
        .route("/v1/drills", get(drills::specs))
        .route("/v1/drill-runs", get(drills::recent).post(drills::start))
        .route("/v1/drill-runs/{id}", get(drills::show))
        .route("/v1/drill-runs/{id}/live", get(drills::watch))
        .route("/healthz", get(health::healthz))
        .route("/readyz", get(health::readyz))
        .route("/metrics", get(metrics::show))
        .route("/openapi.json", get(description::show))
        .fallback(console::file)
        .method_not_allowed_fallback(problem::no_such_method)
        .with_state(service)
}
