//! The HTTP interface described for programs: OpenAPI 3.1, served at `/api/openapi.json`.
//!
//! It is made from the routes themselves: from what each handler takes and what it answers.

use super::answer::about;
use crate::App;
use aide::axum::ApiRouter;
use aide::axum::routing::get_with;
use aide::openapi::{OpenApi, SecurityScheme};
use aide::transform::TransformOpenApi;
use axum::{Json, Router};
use schemars::generate::SchemaSettings;
use std::sync::{Arc, OnceLock};

const ABOUT: &str =
    "Everything the pages do. A script brings a token (rallo token add NAME) as Authorization: Bearer.";

/// The routes, with the document that describes them.
pub fn served() -> Router<App> {
    let document: Arc<OnceLock<OpenApi>> = Arc::default();
    let shown = document.clone();
    let answer = move || {
        let document = shown.get().cloned().unwrap_or_default();
        async move { Json(document) }
    };
    let with_described = |routes: ApiRouter<App>| {
        routes.api_route("/api/openapi.json", get_with(answer, about("This document")))
    };
    let (router, described) = described(with_described);
    let _ = document.set(described);
    router
}

fn described(extend: impl FnOnce(ApiRouter<App>) -> ApiRouter<App>) -> (Router<App>, OpenApi) {
    // JSON Schema 2020-12, as OpenAPI 3.1 has it, with the definitions where that looks for them.
    aide::generate::in_context(|context| {
        let settings = SchemaSettings::draft2020_12();
        context.schema =
            settings.with(|s| s.definitions_path = "#/components/schemas/".into()).into_generator();
    });
    let mut document = OpenApi::default();
    let router = extend(super::routes()).finish_api_with(&mut document, whole);
    (router, document)
}

/// What is said of the interface as a whole.
fn whole(document: TransformOpenApi<'_>) -> TransformOpenApi<'_> {
    let token = SecurityScheme::Http {
        scheme: "bearer".into(),
        bearer_format: None,
        description: Some("A script's token.".into()),
        extensions: Default::default(),
    };
    document
        .title("Rallo")
        .version(env!("CARGO_PKG_VERSION"))
        .description(ABOUT)
        .security_scheme("token", token)
        .security_requirement("token")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::Value;

    fn document() -> Value {
        serde_json::to_value(described(|routes| routes).1).unwrap()
    }

    #[test]
    fn every_operation_says_what_it_does_and_what_it_answers() {
        let document = document();
        let mut operations = 0;
        for (path, methods) in document["paths"].as_object().unwrap() {
            for (method, operation) in methods.as_object().unwrap() {
                operations += 1;
                let named = format!("{method} {path}");
                assert!(operation["summary"].as_str().is_some_and(|s| !s.is_empty()), "{named}");
                let answer = operation["responses"]["200"]["content"].as_object();
                assert!(answer.is_some_and(|kinds| !kinds.is_empty()), "{named}: {operation}");
                let in_path = path.matches('{').count();
                let told = operation["parameters"].as_array().into_iter().flatten();
                assert_eq!(told.filter(|p| p["in"] == "path").count(), in_path, "{named}");
            }
        }
        assert!(operations > 100, "{operations}");
    }

    #[test]
    fn every_reference_leads_somewhere() {
        let document = document();
        let text = document.to_string();
        for part in text.split("\"$ref\":\"").skip(1) {
            let to = part.split('"').next().unwrap().trim_start_matches('#');
            assert!(document.pointer(to).is_some(), "{to}");
        }
        assert!(document.pointer("/paths/~1api~1runs/post/requestBody").is_some());
        assert!(
            document["components"]["schemas"]["RunAsked"]["properties"]["leave_out"].is_object(),
            "{text}"
        );
    }
}
