//! The console's files, embedded in the program.

use axum::extract::Request;
use axum::http::header::{
    CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, REFERRER_POLICY, X_CONTENT_TYPE_OPTIONS,
};
use axum::http::{Method, StatusCode};
use axum::response::{IntoResponse, Response};
use rust_embed::{Embed, EmbeddedFile};

use crate::http::problem::no_such_path;

/// The output of Vite. A build without it serves everything but the console.
#[derive(Embed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// Scripts and styles come only from this service, and no page may frame it.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; \
     font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

/// The first segment of each page of the console, which routes within the page itself: a reload, a
/// bookmark or a link must work on all of them.
const PAGES: [&str; 11] = [
    "", "sign-in", "tenants", "entries", "hot", "waiting", "warming", "load", "drills", "activity",
    "access",
];

pub(crate) async fn file(request: Request) -> Response {
    let path = request.uri().path().trim_start_matches('/').to_owned();
    if !matches!(*request.method(), Method::GET | Method::HEAD) {
        return no_such_path(request).await.into_response();
    }
    let first = path.split('/').next().unwrap_or_default();
    if PAGES.contains(&first) {
        return match Files::get("index.html") {
            Some(page) => answer("index.html", page, "no-cache"),
            None => not_built(),
        };
    }
    match Files::get(&path) {
        // Built files have a hash of their contents in their names.
        Some(found) if path.starts_with("assets/") => {
            answer(&path, found, "public, max-age=31536000, immutable")
        }
        Some(found) => answer(&path, found, "no-cache"),
        None => no_such_path(request).await.into_response(),
    }
}

fn answer(path: &str, file: EmbeddedFile, cache_control: &'static str) -> Response {
    let media_type = mime_guess::from_path(path).first_or_octet_stream().to_string();
    let fields = [
        (CONTENT_TYPE, media_type.as_str()),
        (CACHE_CONTROL, cache_control),
        (CONTENT_SECURITY_POLICY, POLICY),
        (X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (REFERRER_POLICY, "no-referrer"),
    ];
    (fields, file.data).into_response()
}

/// The page that shows one load run without a service, if the console was built.
pub(crate) fn report_page() -> Option<String> {
    let page = Files::get("report.html")?;
    String::from_utf8(page.data.into_owned()).ok()
}

fn not_built() -> Response {
    let text = "This build of Verax has no console. Run `make console`, then build again.\n";
    (StatusCode::NOT_FOUND, text).into_response()
}

#[cfg(test)]
mod tests {
    use super::PAGES;

    #[test]
    fn every_page_of_the_console_is_served() {
        let list = include_str!("../../../../console/src/lib/pages.ts");
        let paths = list.split("path: '/").skip(1).filter_map(|rest| rest.split('\'').next());
        let paths: Vec<&str> = paths.collect();
        assert!(paths.len() >= 8, "{paths:?}");
        for path in paths {
            assert!(PAGES.contains(&path), "/{path} answers 404");
        }
    }
}
