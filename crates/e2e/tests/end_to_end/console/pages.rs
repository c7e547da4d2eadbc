//! The pages of the console in headless Chromium: what an administrator does there, and what others
//! are offered.

use thirtyfour::prelude::*;
use verax_e2e::{Browser, Verax, until};

/// Waits until a service answers a page address with the app, as after a reload or from a bookmark.
async fn opened(browser: &Browser, verax: &Verax, path: &str) {
    browser.page.goto(format!("{}{path}", verax.url())).await.unwrap();
    browser.text_when("[data-answer]", |text| text != "…").await;
}

async fn filled(browser: &Browser, label: &str, text: &str) {
    let field = By::XPath(format!(
        "//dialog[@open]//label[contains(., '{label}')]/following-sibling::input"
    ));
    let field = browser.page.query(field).first().await.unwrap();
    field.clear().await.unwrap();
    field.send_keys(text).await.unwrap();
}

async fn confirmed(browser: &Browser, action: &str) {
    browser.click(By::XPath(format!("//dialog[@open]//button[contains(., '{action}')]"))).await;
}

/// Creates a tenant, and a namespace in it.
async fn create_tenant_and_namespace(browser: &Browser) {
    browser.click(By::LinkText("Tenants")).await;
    browser.text_when("main", |text| text.contains("There are no tenants yet")).await;
    browser.click(By::XPath("//button[contains(., 'Tenant')]")).await;
    filled(browser, "Name", "Not a name").await;
    confirmed(browser, "Create it").await;
    browser.text_when("dialog[open] [role=alert]", |text| text.contains("lower-case")).await;
    filled(browser, "Name", "ferrydesk").await;
    confirmed(browser, "Create it").await;
    browser.text_when("main", |text| text.contains("1 tenant")).await;
    browser.click(By::XPath("//button[contains(., 'Namespace')]")).await;
    filled(browser, "Name", "boards").await;
    confirmed(browser, "Create it").await;
    browser.text_when("main", |text| text.contains("ferrydesk/boards")).await;
}

/// Sets a quota, first with a field that cannot be read.
async fn set_quota(browser: &Browser, verax: &Verax) {
    browser.click(By::Css("button[aria-label='Change the quota of ferrydesk']")).await;
    filled(browser, "Cap", "much").await;
    filled(browser, "Max connections", "20").await;
    confirmed(browser, "Set the quota").await;
    browser.text_when("dialog[open]", |text| text.contains("“much” cannot be read")).await;
    browser.assert_accessible("quota with an error").await;
    filled(browser, "Cap", "8 MiB").await;
    confirmed(browser, "Set the quota").await;
    browser.text_when("main table", |text| text.contains("of 8.0 MiB")).await;
    let quota = verax.run(&["tenant", "show", "ferrydesk", "--json"]).json()["quota"].clone();
    assert_eq!((&quota["cap_bytes"], &quota["max_connections"]), (&(8 << 20).into(), &20.into()));
    browser.assert_accessible("tenants").await;
}

/// Changes a policy, by its own address. One that somebody changed meanwhile is not overwritten.
async fn change_policy(browser: &Browser, verax: &Verax) {
    opened(browser, verax, "/tenants/ferrydesk/boards").await;
    browser.click(By::XPath("//button[contains(., 'Change the policy')]")).await;
    filled(browser, "Max-age", "5m").await;
    verax.run(&["namespace", "change", "ferrydesk/boards", "--jitter", "5"]).done();
    let stale = async || {
        confirmed(browser, "Change it").await;
        let alert = browser.page.find(By::Css("dialog[open] [role=alert]")).await.ok();
        match alert {
            Some(alert) => alert.text().await.is_ok_and(|text| text.contains("has changed")),
            None => false,
        }
    };
    until("the change is refused", stale).await;
    browser.assert_accessible("policy").await;
    confirmed(browser, "Cancel").await;
    browser.text_when("[data-part=jitter_percent]", |text| text == "5").await;
    browser.click(By::XPath("//button[contains(., 'Change the policy')]")).await;
    filled(browser, "Max-age", "5m").await;
    confirmed(browser, "Change it").await;
    browser.text_when("[data-part=max_age_seconds]", |text| text.contains("5 min")).await;
    browser.assert_accessible("namespace").await;
}

/// A bypass is one click, shows on every page, and ends with another.
async fn bypass_and_end_it(browser: &Browser, verax: &Verax) {
    let origin = verax_e2e::HeldOrigin::start("[]").await;
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    verax.run(&["namespace", "change", "ferrydesk/boards", "--origin", "desk"]).done();
    browser.click(By::XPath("//button[contains(., 'Bypass for 5 min')]")).await;
    browser.text_when("[data-bypass]", |text| text.contains("ferrydesk/boards")).await;
    browser.assert_accessible("bypass").await;
    browser.click(By::LinkText("Overview")).await;
    browser.text_when("[data-bypass]", |text| text.contains("ferrydesk/boards")).await;
    opened(browser, verax, "/tenants/ferrydesk/boards").await;
    browser.click(By::XPath("//button[contains(., 'End the bypass')]")).await;
    until("the bypass has ended", async || {
        browser.page.find(By::Css("[data-bypass]")).await.is_err()
    })
    .await;
}

/// Deleting asks for the name.
async fn delete_namespace(browser: &Browser, verax: &Verax) {
    browser.click(By::XPath("//button[contains(., 'Delete')]")).await;
    filled(browser, "to confirm", "board").await;
    confirmed(browser, "Delete it").await;
    browser.text_when("dialog[open] [role=alert]", |text| text.contains("Write boards")).await;
    filled(browser, "to confirm", "boards").await;
    confirmed(browser, "Delete it").await;
    browser.text_when("main", |text| text.contains("There is no namespace")).await;
    browser.click(By::LinkText("Activity")).await;
    browser.text_when("main table", |text| text.contains("namespace.delete")).await;
    browser.assert_accessible("activity").await;
    opened(browser, verax, "/activity?filter=tenant.change").await;
    let rows = browser.text_when("main table", |text| text.contains("tenant.change")).await;
    assert!(!rows.contains("namespace.delete"), "{rows}");
}

#[tokio::test(flavor = "multi_thread")]
async fn tenants_and_policies_are_managed_in_the_console() {
    let verax = Verax::ephemeral(&[]);
    let browser = Browser::start().await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    create_tenant_and_namespace(&browser).await;
    set_quota(&browser, &verax).await;
    change_policy(&browser, &verax).await;
    bypass_and_end_it(&browser, &verax).await;
    delete_namespace(&browser, &verax).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn entries_are_found_edited_and_deleted_in_the_console() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-age", "1h"]).done();
    for n in 0..300 {
        let (key, value) = (format!("board/{n}"), format!(r#"{{"delay":{n}}}"#));
        verax.run(&["put", "ferrydesk/boards", &key, &value, "--tag", "boards"]).done();
    }
    verax.run(&["put", "ferrydesk/boards", "damaged", r#"{"delay":"#]).done();
    let browser = Browser::start().await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    opened(&browser, &verax, "/entries?namespace=ferrydesk%2Fboards&prefix=board%2F").await;
    browser.text_when("[data-answer]", |text| text == "301 entries").await;
    // Of many rows, only those in view are in the page.
    browser
        .text_when("main table", |text| text.contains("board/") && !text.contains("damaged"))
        .await;
    let rows = browser.page.find_all(By::Css("main tbody tr")).await.unwrap().len();
    assert!((10..120).contains(&rows), "{rows} rows");
    browser.assert_accessible("entries").await;

    // One entry: its value, an edit, and an edit that comes too late.
    opened(&browser, &verax, "/entries?namespace=ferrydesk%2Fboards&key=board%2F7").await;
    browser.text_when("pre", |text| text.contains("\"delay\": 7")).await;
    browser.text_when("[data-freshness]", |text| text.contains("left")).await;
    browser.click(By::XPath("//button[contains(., 'Edit')]")).await;
    let area = browser.page.query(By::Css("dialog[open] textarea")).first().await.unwrap();
    let write = async |text: &str| {
        area.clear().await.unwrap();
        area.send_keys(text).await.unwrap();
        confirmed(&browser, "Store it").await;
    };
    write(r#"{"delay":"#).await;
    browser.text_when("dialog[open] [role=alert]", |text| text.contains("no valid JSON")).await;
    browser.assert_accessible("edit").await;
    verax.run(&["put", "ferrydesk/boards", "board/7", r#"{"delay":70}"#]).done();
    write(r#"{"delay":8}"#).await;
    browser
        .text_when("dialog[open] [role=alert]", |text| text.contains("not the expected one"))
        .await;
    confirmed(&browser, "Cancel").await;
    browser.click(By::XPath("//button[contains(., 'Read again')]")).await;
    browser.text_when("pre", |text| text.contains("\"delay\": 70")).await;
    browser.click(By::XPath("//button[contains(., 'Edit')]")).await;
    let area = browser.page.query(By::Css("dialog[open] textarea")).first().await.unwrap();
    area.clear().await.unwrap();
    area.send_keys(r#"{"delay":9}"#).await.unwrap();
    confirmed(&browser, "Store it").await;
    browser.text_when("pre", |text| text.contains("\"delay\": 9")).await;
    assert_eq!(verax.run(&["get", "ferrydesk/boards", "board/7"]).done(), r#"{"delay":9}"#);
    browser.assert_accessible("entry").await;
    browser.click(By::XPath("//section//button[contains(., 'Delete')]")).await;
    confirmed(&browser, "Delete it").await;
    browser.text_when("section", |text| text.contains("not in the cache")).await;
    assert_eq!(verax.run(&["get", "ferrydesk/boards", "board/7"]).code, 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn tokens_and_sessions_are_managed_in_the_console_by_those_who_may() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards"]).done();
    let reader = verax.run(&["token", "create", "--scope", "read:ferrydesk"]).done();
    let browser = Browser::start().await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    browser.click(By::LinkText("Access")).await;
    browser.text_when("[data-answer]", |text| text == "2 tokens").await;
    browser.click(By::XPath("//button[contains(., 'Token')]")).await;
    confirmed(&browser, "Create it").await;
    browser
        .text_when("dialog[open] [role=alert]", |text| text.contains("at least one scope"))
        .await;
    confirmed(&browser, "Add the scope").await;
    filled(&browser, "Note", "departure boards").await;
    browser.assert_accessible("create a token").await;
    confirmed(&browser, "Create it").await;
    let secret = browser.text_when("[data-secret]", |text| text.starts_with("verax-token-")).await;
    assert_eq!(verax.run_with(&secret, &["list", "ferrydesk/boards"], b"").code, 0);
    browser.text_when("main table", |text| text.contains("departure boards")).await;
    browser.assert_accessible("access").await;
    browser.click(By::Css("button[aria-label='Revoke token 3']")).await;
    confirmed(&browser, "Revoke it").await;
    browser.text_when("[data-answer]", |text| text == "2 tokens").await;
    assert_eq!(verax.run_with(&secret, &["list", "ferrydesk/boards"], b"").code, 4);
    browser.click(By::Css("button[aria-label='Sign out']")).await;

    // What a session may not do is not offered.
    let field = browser.page.query(By::Css("input[name=token]")).first().await.unwrap();
    field.send_keys(reader.trim()).await.unwrap();
    browser.click(By::Css("form button")).await;
    opened(&browser, &verax, "/tenants").await;
    let page = browser.text_when("main", |text| text.contains("ferrydesk/boards")).await;
    assert!(!page.contains("\nTenant\n+"), "{page}");
    assert!(browser.page.find(By::Css("button[aria-label^='Change the quota']")).await.is_err());
    opened(&browser, &verax, "/tenants/ferrydesk/boards").await;
    let page = browser.text_when("main", |text| text.contains("Policy")).await;
    for change in ["Change the policy", "Bypass", "Clear", "Delete", "Take", "Remove"] {
        assert!(!page.contains(change), "{change} is offered: {page}");
    }
    opened(&browser, &verax, "/access").await;
    browser.text_when("main", |text| text.contains("may read:ferrydesk")).await;
    browser.assert_accessible("access of a reader").await;
    // A session that is ended elsewhere is signed out here.
    let id = verax.run(&["session", "list", "--json"]).json()[0]["id"].to_string();
    verax.run(&["session", "end", &id]).done();
    browser.text_when("form button", |text| text.contains("Sign in")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn entries_are_ordered_and_found_by_their_values_in_the_console() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-age", "1h"]).done();
    for delay in 0..6 {
        let (key, padding) = (format!("board/{delay}"), "x".repeat(delay * 10));
        let value = format!("{{\"delay\": {delay}, \"note\": \"{padding}\"}}");
        verax.run(&["put", "ferrydesk/boards", &key, &value, "--tag", "boards"]).done();
    }
    let browser = Browser::start().await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    browser.click(By::Css("button[aria-label='Use dark colors']")).await;
    opened(&browser, &verax, "/entries?namespace=ferrydesk/boards&order=largest").await;
    browser.text_when("main table tbody tr", |text| text.contains("board/5")).await;
    browser.assert_accessible("entries by size, dark").await;
    let place = "/entries?namespace=ferrydesk/boards&where=%24%5B%3F%40%20%3E%203%5D";
    opened(&browser, &verax, place).await;
    browser.text_when("[data-found]", |text| text.contains("2 found among 6 entries")).await;
    browser.assert_accessible("found entries, dark").await;
    opened(&browser, &verax, "/entries?namespace=ferrydesk/boards&where=%24..a..b").await;
    browser.text_when("main [role=alert]", |text| text.contains("could take too long")).await;
    // The count comes before the loss.
    opened(&browser, &verax, "/entries?namespace=ferrydesk/boards&tag=boards").await;
    browser.click(By::XPath("//button[contains(., 'Invalidate a tag')]")).await;
    confirmed(&browser, "Count them").await;
    browser.text_when("dialog[open] output", |text| text == "6 would go.").await;
    browser.assert_accessible("invalidate, dark").await;
    confirmed(&browser, "Cancel").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn usage_advice_and_damage_are_shown_in_the_console() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-age", "1h"]).done();
    let put = ["put", "ferrydesk/boards", "board/saltmere", "{\"delay\":"];
    verax.run(&[&put[..], &["--type", "application/json"]].concat()).done();
    let cache = verax.client().cache("ferrydesk", "boards", Default::default()).unwrap();
    for _ in 0..300 {
        cache.get("board/saltmere").await.unwrap();
    }
    let browser = Browser::start().await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    browser.click(By::Css("button[aria-label='Use dark colors']")).await;
    opened(&browser, &verax, "/tenants/ferrydesk/boards").await;
    browser.text_when("[data-usage-summary]", |text| text.contains("300 reads")).await;
    browser.text_when("[data-advice]", |text| text.contains("Suggested max-age")).await;
    browser
        .text_when("[data-memory-curve]", |text| text.contains("More memory buys nothing"))
        .await;
    browser.click(By::XPath("//button[contains(., 'Check stored values')]")).await;
    browser.text_when("[data-checked]", |text| text.contains("1 damaged")).await;
    browser.click(By::XPath("//button[contains(., 'Remove the damaged ones')]")).await;
    browser.text_when("main", |text| text.contains("removed")).await;
    browser.assert_accessible("namespace with usage, dark").await;
    // A chart tells its values by keyboard, and can be paused.
    let chart = browser.page.query(By::Css("[role=img][tabindex='0']")).first().await.unwrap();
    chart.send_keys(Key::End + "").await.unwrap();
    browser.text_when("[data-readout]", |text| text.contains("reads")).await;
    browser.click(By::Css("button[aria-label='Pause']")).await;
    browser.click(By::Css("button[aria-label='Go on']")).await;
    // A rule is one line of the policy.
    browser.click(By::XPath("//button[contains(., 'Change the policy')]")).await;
    filled(&browser, "Intervals", "boards=5s").await;
    confirmed(&browser, "Change it").await;
    browser.text_when("dialog[open]", |text| text.contains("cannot be read")).await;
    filled(&browser, "Intervals", "tag:boards=30s").await;
    confirmed(&browser, "Change it").await;
    browser.text_when("[data-part=intervals]", |text| text == "tag:boards=30s").await;
    opened(&browser, &verax, "/tenants").await;
    browser.text_when("[data-usage-summary]", |text| text.contains("300 reads")).await;
    browser.text_when("[data-memory-division]", |text| text.contains("No division")).await;
    browser.assert_accessible("tenants with usage, dark").await;
    assert_eq!(verax.run(&["get", "ferrydesk/boards", "board/saltmere"]).code, 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn plans_runs_schedules_and_hot_keys_are_managed_in_the_console() {
    let origin = verax_e2e::HeldOrigin::start("late ferry").await;
    origin.let_go(30);
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    let create = ["namespace", "create", "ferrydesk/boards", "--origin", "desk", "--max-age", "1h"];
    verax.run(&create).done();
    for _ in 0..20 {
        verax.run(&["get", "ferrydesk/boards", "aldermouth"]).done();
    }
    let browser = Browser::start().await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    // What is hot becomes a plan.
    browser.click(By::LinkText("Hot keys")).await;
    browser.text_when("[data-answer]", |text| text == "aldermouth").await;
    browser.text_when("main table", |text| text.contains("95.0 %")).await;
    browser.assert_accessible("hot keys").await;
    browser.click(By::XPath("//button[contains(., 'Make a plan of these')]")).await;
    filled(&browser, "Name", "busiest").await;
    filled(&browser, "Concurrency", "many").await;
    confirmed(&browser, "Keep the plan").await;
    browser.text_when("dialog[open]", |text| text.contains("“many” cannot be read")).await;
    browser.assert_accessible("a plan with an error").await;
    filled(&browser, "Concurrency", "2").await;
    let keys = browser.page.find(By::Css("dialog[open] textarea")).await.unwrap();
    keys.send_keys("\npattern {key} key=range:1..40").await.unwrap();
    confirmed(&browser, "Keep the plan").await;
    browser.text_when("main", |text| text.contains("ferrydesk/busiest is kept")).await;
    let plan = verax.run(&["warm", "plan", "show", "ferrydesk/busiest", "--json"]).json();
    assert_eq!((&plan["concurrency"], &plan["keys"][0]["hottest"]), (&2.into(), &1.into()));

    // A run is seen live, pauses, and stops.
    opened(&browser, &verax, "/warming").await;
    browser.click(By::Css("button[aria-label='What would it do? ferrydesk/busiest']")).await;
    browser.text_when("main", |text| text.contains("would refill 41 of 41 keys")).await;
    browser.click(By::Css("button[aria-label='Run ferrydesk/busiest']")).await;
    browser.text_when("[data-run-state=running]", |text| text.contains("of 41 keys")).await;
    until("most of what may be read is read", async || origin.calls() >= 30).await;
    browser.click(By::XPath("//button[contains(., 'Pause')]")).await;
    browser.text_when("[data-run-phase=paused]", |text| text.contains("paused")).await;
    browser.assert_accessible("a run that pauses").await;
    browser.click(By::XPath("//section//button[contains(., 'Resume')]")).await;
    browser.text_when("[data-run-phase=refilling]", |text| text.contains("refilling")).await;
    browser.click(By::XPath("//section//button[contains(., 'Stop')]")).await;
    origin.let_go(10);
    browser.text_when("[data-run-state=stopped]", |text| text.contains("stopped")).await;

    // A schedule shows its next times before it is kept.
    browser.click(By::XPath("//button[contains(., 'New schedule')]")).await;
    filled(&browser, "Name", "mornings").await;
    filled(&browser, "Time zone", "Europe/Lisbon").await;
    filled(&browser, "Cron expression", "0 25 * * *").await;
    filled(&browser, "What it is for", "commuters").await;
    browser.text_when("dialog[open]", |text| text.contains("at character 3")).await;
    filled(&browser, "Cron expression", "0 7 * * *").await;
    filled(&browser, "What it is for", "early commuters").await;
    browser.text_when("dialog[open]", |text| text.contains("07:00 WE")).await;
    browser.assert_accessible("a schedule").await;
    confirmed(&browser, "Keep the schedule").await;
    browser.text_when("main", |text| text.contains("ferrydesk/mornings")).await;
    browser.click(By::Css("button[aria-label='Pause ferrydesk/mornings']")).await;
    browser.text_when("main", |text| text.contains("Nothing is scheduled")).await;
    browser.click(By::Css("button[aria-label='Use dark colors']")).await;
    browser.assert_accessible("warming, dark").await;
    browser.click(By::Css("button[aria-label='Delete ferrydesk/busiest']")).await;
    confirmed(&browser, "Delete it").await;
    browser.text_when("main", |text| text.contains("No plans.")).await;
}
