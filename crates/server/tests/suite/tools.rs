//! The Model Context Protocol, as its own published client library speaks it.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use logothete::config::{Config, GeneratorKind};
use logothete::{BuildRequest, Corpus, Hashing, Pipeline};
use logothete_server::Tools;
use logothete_simulator::{ModelFault, ModelService};
use rmcp::model::{
    CallToolRequest, CallToolRequestParams, CallToolResult, ClientRequest, ProgressNotificationParam,
    ReadResourceRequestParams, ResourceContents,
};
use rmcp::service::{NotificationContext, PeerRequestOptions, RunningService};
use rmcp::transport::StreamableHttpClientTransport;
use rmcp::{ClientHandler, RoleClient, ServiceExt};
use serde_json::{Value, json};

use crate::client::{Running, TOKEN, notices, runtime};

/// A client that remembers the progress that it is told of.
#[derive(Clone, Default)]
struct Caller(Arc<Mutex<Vec<String>>>);

impl ClientHandler for Caller {
    async fn on_progress(&self, progress: ProgressNotificationParam, _: NotificationContext<RoleClient>) {
        self.0.lock().expect("a list").extend(progress.message);
    }
}

async fn corpus(config: &Config) -> Corpus {
    let pipeline =
        Pipeline::from_config(config).expect("a pipeline").with_encoder(Hashing::new(128).expect("settings"));
    let corpus = pipeline.in_memory().await.expect("a corpus");
    corpus.build(BuildRequest::default().source(notices())).await.expect("a build");
    corpus
}

async fn connected(config: &Config, caller: Caller) -> RunningService<RoleClient, Caller> {
    let (one, other) = tokio::io::duplex(1_000_000);
    let tools = Tools::new(corpus(config).await);
    tokio::spawn(async move {
        if let Ok(serving) = tools.serve(one).await {
            let _ = serving.waiting().await;
        }
    });
    caller.serve(other).await.expect("a connection")
}

async fn call(client: &RunningService<RoleClient, Caller>, name: &'static str, arguments: Value) -> CallToolResult {
    let arguments = arguments.as_object().cloned().expect("an object");
    client.call_tool(CallToolRequestParams::new(name).with_arguments(arguments)).await.expect("a result")
}

fn text(result: &CallToolResult) -> String {
    result.content.iter().filter_map(|part| part.as_text()).map(|part| part.text.clone()).collect()
}

#[test]
fn tools_search_ask_read_and_list() {
    runtime().block_on(async {
        let client = connected(&Config::default(), Caller::default()).await;
        let tools = client.list_all_tools().await.expect("tools");
        let names: Vec<&str> = tools.iter().map(|tool| tool.name.as_ref()).collect();
        assert_eq!(names, ["search", "ask", "read_document", "list_documents"]);
        assert!(tools.iter().all(|tool| tool.annotations.as_ref().is_some_and(|one| one.read_only_hint == Some(true))));

        let listed = call(&client, "list_documents", json!({})).await;
        assert_eq!(text(&listed), "bells.md: Bells\nlocks/hours.md: Lock hours");

        let found = call(&client, "search", json!({ "query": "sea lock shut", "passages": 1 })).await;
        assert!(text(&found).contains("[1] locks/hours.md"), "{}", text(&found));

        let reply = call(&client, "ask", json!({ "question": "How often is the great bell rung in fog?" })).await;
        assert!(text(&reply).contains("every twenty seconds in fog. [1]"), "{}", text(&reply));
        let structured = reply.structured_content.clone().expect("JSON");
        assert_eq!(structured["claims"][0]["citations"], json!([1]));
        // The link leads to the words that are cited.
        let link = reply.content.iter().find_map(|part| part.as_resource_link()).expect("a link");
        assert_eq!(link.title.as_deref(), Some("Bells"));
        let read = client.read_resource(ReadResourceRequestParams::new(&link.uri)).await.expect("a resource");
        let Some(ResourceContents::TextResourceContents { text: quoted, .. }) = read.contents.first() else {
            panic!("{read:?}")
        };
        assert_eq!(structured["sources"][0]["quotation"], quoted.as_str());

        let whole = call(&client, "read_document", json!({ "document": "locks/hours.md" })).await;
        assert!(text(&whole).contains("eleven at night"));
        let resources = client.list_all_resources().await.expect("resources");
        let addresses: Vec<&str> = resources.iter().map(|one| one.uri.as_str()).collect();
        assert_eq!(addresses, ["corpus:///bells%2Emd", "corpus:///locks%2Fhours%2Emd"]);
        client.cancel().await.expect("an end");
    });
}

#[test]
fn what_is_wrong_is_said_and_the_connection_lives() {
    runtime().block_on(async {
        let client = connected(&Config::default(), Caller::default()).await;
        for (name, arguments, said) in [
            ("read_document", json!({ "document": "bell.md" }), "bells.md"),
            ("read_document", json!({ "document": "bells.md", "start": 7, "end": 5 }), "no such part"),
            ("search", json!({ "query": "  " }), "empty"),
            ("ask", json!({ "question": "Who?", "filter": "date >" }), "a value is missing"),
        ] {
            let result = call(&client, name, arguments.clone()).await;
            assert_eq!(result.is_error, Some(true), "{name} {arguments}");
            assert!(text(&result).contains(said), "{name} {arguments}: {}", text(&result));
        }
        for (name, arguments) in [
            ("dig", json!({})),
            ("ask", json!({})),
            ("search", json!({ "query": 7 })),
            ("ask", json!({ "question": "a", "loud": true })),
        ] {
            let arguments = arguments.as_object().cloned().expect("an object");
            let refused = client.call_tool(CallToolRequestParams::new(name).with_arguments(arguments)).await;
            assert!(refused.is_err(), "{name}");
        }
        for address in
            ["file:///etc/passwd", "corpus:///..%2F..%2Fetc%2Fpasswd", "corpus:///bells.md?start=9999&end=99999"]
        {
            assert!(client.read_resource(ReadResourceRequestParams::new(address)).await.is_err(), "{address}");
        }
        let found = call(&client, "search", json!({ "query": "bell" })).await;
        assert_eq!(found.is_error, Some(false));
    });
}

#[test]
fn progress_is_told_and_a_call_is_cancelled() {
    let model = ModelService::start().expect("a model").failing_at(2, ModelFault::Stall(Duration::from_secs(600)));
    let mut config = Config::default();
    config.generator.kind = GeneratorKind::Remote;
    config.generator.address = model.address();
    "stand-in".clone_into(&mut config.generator.model);
    config.privacy.allow = vec![model.host()];
    let caller = Caller::default();
    runtime().block_on(async {
        let client = connected(&config, caller.clone()).await;
        let asked = |question: &str| {
            let arguments = json!({ "question": question }).as_object().cloned().expect("an object");
            let request = CallToolRequest::new(CallToolRequestParams::new("ask").with_arguments(arguments));
            client.send_cancellable_request(ClientRequest::CallToolRequest(request), PeerRequestOptions::no_options())
        };
        let first = asked("How often is the great bell rung in fog?").await.expect("sent");
        first.await_response().await.expect("a reply");
        let told = caller.0.lock().expect("a list").clone();
        assert!(
            told.contains(&"search is done".to_owned()) && told.contains(&"generate is done".to_owned()),
            "{told:?}"
        );

        let second = asked("When is the sea lock shut?").await.expect("sent");
        while model.asked().len() < 2 {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        second.cancel(Some("enough".to_owned())).await.expect("cancelled");
        let found =
            tokio::time::timeout(Duration::from_secs(5), call(&client, "search", json!({ "query": "bell" }))).await;
        assert!(found.is_ok(), "the connection lives");
    });
}

/// The same over HTTP, where the token of the service counts.
#[test]
fn tools_are_offered_over_http_to_those_who_know_the_token() {
    let service = Running::guarded();
    let url = format!("http://{}/tools", service.address);
    assert_eq!(service.post("/tools", &json!({})).status, 401);
    runtime().block_on(async {
        use rmcp::transport::streamable_http_client::StreamableHttpClientTransportConfig;
        let config = StreamableHttpClientTransportConfig::with_uri(url).auth_header(TOKEN);
        let client =
            Caller::default().serve(StreamableHttpClientTransport::from_config(config)).await.expect("a connection");
        let reply = call(&client, "ask", json!({ "question": "How often is the great bell rung in fog?" })).await;
        assert!(text(&reply).contains("every twenty seconds"), "{}", text(&reply));
        client.cancel().await.expect("an end");
    });
}
