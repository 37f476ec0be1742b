//! Hands out a folder's files on this machine until it is stopped: `cargo run -p pyrotyp-sample --example mirror -- DIR`.

use std::path::PathBuf;

use pyrotyp_sample::mirror::Mirror;

fn main() -> std::io::Result<()> {
    let folder = PathBuf::from(std::env::args_os().nth(1).unwrap_or_else(|| ".".into()));
    let address = Mirror::new(&folder).start()?;
    println!("http://{address}/steady/");
    loop {
        std::thread::park();
    }
}
