fn main() {
    let bell = 20;
}
