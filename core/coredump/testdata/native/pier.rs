// A program that prints the truth about values of Rust and then crashes. Lines of
// its output are those of sluice.c.
use std::io::Write;

#[derive(Debug)]
enum Mark { None, Depth(f64), Named { name: String, metres: i32 } }

struct Berth { name: String, depths: Vec<i32>, mark: Mark, other: Mark, note: Option<String>, none: Option<Box<i64>>, side: (u8, i16), open: bool }

#[inline(never)]
fn look(berth: &Berth, label: &str, list: &[i64], sign: char) -> i64 {
    println!("value pier::look berth.name {:?}", berth.name);
    println!("value pier::look berth.depths[2] {}", berth.depths[2]);
    println!("value pier::look size(berth.depths) {}", berth.depths.len());
    println!("value pier::look label {:?}", label);
    println!("value pier::look list[1] {}", list[1]);
    if let Mark::Depth(d) = berth.mark { println!("value pier::look berth.mark.__0 {}", d) }
    if let Mark::Named { name, metres } = &berth.other {
        println!("value pier::look berth.other.name {:?}", name);
        println!("value pier::look berth.other.metres {}", metres);
    }
    println!("value pier::look berth.note.__0 {:?}", berth.note.as_ref().unwrap());
    println!("value pier::look berth.side.__1 {}", berth.side.1);
    println!("value pier::look berth.open {}", berth.open);
    println!("value pier::look sign {}", sign as u32);
    std::io::stdout().flush().unwrap();
    let wild = 0x18 as *const i64;
    unsafe { *wild + list.len() as i64 }
}

fn main() {
    let berth = Berth { name: "Kelp Quay".to_string(), depths: vec![3, 4, 55], mark: Mark::Depth(2.5), other: Mark::Named { name: "red".to_string(), metres: -7 },
        note: Some("mud".to_string()), none: None, side: (1, -300), open: true };
    let empty = Mark::None;
    let n = look(&berth, "Osprey Wall", &[1, 22, 3], 'K');
    println!("{} {:?} {:?}", n, empty, berth.none);
}
