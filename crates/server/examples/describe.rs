//! Prints the description of the HTTP API: an OpenAPI document.

fn main() {
    print!("{}", logothete_server::openapi());
}
