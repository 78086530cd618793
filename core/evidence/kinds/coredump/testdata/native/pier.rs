// A program that prints the truth about values of Rust and then crashes. Lines of
// its output are those of sluice.c.
use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet, BinaryHeap, HashMap, HashSet, LinkedList, VecDeque};
use std::io::Write;
use std::rc::{Rc, Weak};
use std::sync::atomic::{AtomicBool, AtomicU64};
use std::sync::{Arc, Mutex};
use std::time::Duration;

#[derive(Debug)]
enum Mark { None, Depth(f64), Named { name: String, metres: i32 } }

struct Berth { name: String, depths: Vec<i32>, mark: Mark, other: Mark, note: Option<String>, none: Option<Box<i64>>, side: (u8, i16), open: bool }

trait Lit { fn range(&self) -> f64; }
struct Buoy { nm: f64, name: String }
impl Lit for Buoy { fn range(&self) -> f64 { self.nm } }
struct Lamp { watts: u8 }
impl Lit for Lamp { fn range(&self) -> f64 { self.watts as f64 / 10.0 } }

// What the standard library keeps in ways of its own.
struct Store {
    pilots: HashMap<String, i32>, empty: HashMap<u8, u8>, known: HashSet<u16>, gates: BTreeMap<String, Vec<i32>>, tides: BTreeSet<i64>, none: BTreeSet<i64>,
    waiting: VecDeque<i32>, queue: LinkedList<String>, first: BinaryHeap<i32>, tug: Rc<String>, same: Weak<String>, never: Weak<i32>, shared: Arc<(i32, f64)>,
    turns: Cell<i32>, log: RefCell<Vec<i32>>, level: Mutex<f64>, open: AtomicBool, count: AtomicU64, wait: Duration, path: std::path::PathBuf, boxed: Box<[i16]>, wide: i128,
    light: Box<dyn Lit>, other: Arc<dyn Lit>, trouble: Box<dyn std::error::Error>,
    counted: Rc<[i32]>, named: Arc<[String]>, sign: Rc<str>, label: Arc<str>,
}

fn store() -> Store {
    let tug = Rc::new("Two Sisters of Ness".to_string());
    let same = Rc::downgrade(&tug);
    let mut s = Store { pilots: HashMap::new(), empty: HashMap::new(), known: HashSet::new(), gates: BTreeMap::new(), tides: BTreeSet::new(), none: BTreeSet::new(),
        waiting: VecDeque::new(), queue: LinkedList::new(), first: BinaryHeap::new(), tug, same, never: Weak::new(), shared: Arc::new((5, 2.5)),
        turns: Cell::new(12), log: RefCell::new(vec![4, 5]), level: Mutex::new(1.75), open: AtomicBool::new(true), count: AtomicU64::new(1 << 40), wait: Duration::from_millis(1250), path: "/srv/gannet".into(), boxed: vec![7, -8].into(), wide: 0,
        light: Box::new(Buoy { nm: 4.5, name: "Skerry Gut".to_string() }), other: Arc::new(Lamp { watts: 60 }), trouble: "no such tide station".parse::<i32>().unwrap_err().into(),
        counted: Rc::from(vec![3, 1, 4]), named: Arc::from(vec!["Kelp Quay".to_string(), "Osprey Wall".to_string()]), sign: Rc::from("Skerry Gut"), label: Arc::from("to the locks") };
    for i in 0..400 {
        s.pilots.insert(format!("pilot {}", i), i * i);
        s.known.insert(3 * i as u16);
        s.gates.insert(format!("gate {:03}", i), vec![i, i + 1]);
        s.tides.insert(i as i64 * 7);
        s.waiting.push_back(i);
        if i >= 10 { s.waiting.pop_front(); }
        s.queue.push_back(format!("line {}", i));
        s.first.push(i);
    }
    s
}

fn tell(s: &Store) {
    println!("value pier::look store.pilots[\"pilot@17\"] {}", s.pilots["pilot 17"]);
    println!("value pier::look size(store.pilots) {}", s.pilots.len());
    println!("value pier::look size(store.empty) {}", s.empty.len());
    println!("value pier::look 27@in@store.known {}", s.known.contains(&27));
    println!("value pier::look 28@in@store.known {}", s.known.contains(&28));
    println!("value pier::look store.gates[\"gate@311\"][1] {}", s.gates["gate 311"][1]);
    println!("value pier::look size(store.gates) {}", s.gates.len());
    println!("value pier::look 2793@in@store.tides {}", s.tides.contains(&2793));
    println!("value pier::look 2792@in@store.tides {}", s.tides.contains(&2792));
    println!("value pier::look size(store.none) {}", s.none.len());
    println!("value pier::look store.waiting[0] {}", s.waiting[0]);
    println!("value pier::look store.waiting[9] {}", s.waiting[9]);
    println!("value pier::look size(store.waiting) {}", s.waiting.len());
    println!("value pier::look store.queue[399] {:?}", s.queue.back().unwrap());
    println!("value pier::look store.first[0] {}", s.first.peek().unwrap());
    println!("value pier::look deref(store.tug) {:?}", s.tug);
    println!("value pier::look deref(store.same) {:?}", s.same.upgrade().unwrap());
    println!("value pier::look store.never==null {}", s.never.upgrade().is_none());
    println!("value pier::look store.shared.__1 {}", s.shared.1);
    println!("value pier::look store.turns {}", s.turns.get());
    println!("value pier::look store.log.value[1] {}", s.log.borrow()[1]);
    println!("value pier::look store.level.data {}", s.level.lock().unwrap());
    println!("value pier::look store.open {}", s.open.load(std::sync::atomic::Ordering::SeqCst));
    println!("value pier::look store.count {}", s.count.load(std::sync::atomic::Ordering::SeqCst));
    println!("value pier::look store.wait==1250000000 {}", s.wait.as_millis() == 1250);
    println!("value pier::look store.path {:?}", s.path);
    println!("value pier::look store.boxed[1] {}", s.boxed[1]);
    println!("value pier::look store.counted[2] {}", s.counted[2]);
    println!("value pier::look size(store.counted) {}", s.counted.len());
    println!("value pier::look store.named[1] {:?}", s.named[1]);
    println!("value pier::look store.sign {:?}", s.sign);
    println!("value pier::look store.label {:?}", s.label);
    println!("value pier::look store.light.nm {}", s.light.range());
    println!("value pier::look store.light.name {:?}", "Skerry Gut");
    println!("value pier::look store.other.watts {}", s.other.range() * 10.0);
    println!("value pier::look typeOf(store.trouble) {:?}", "Box<dyn Error> (ParseIntError)");
}

#[inline(never)]
fn look(store: &Store, berth: &Berth, label: &str, list: &[i64], sign: char) -> i64 {
    tell(store);
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
    let mut store = store();
    store.wide = -(1 << 100);
    let n = look(&store, &berth, "Osprey Wall", &[1, 22, 3], 'K');
    println!("{} {:?} {:?} {}", n, empty, berth.none, store.wide);
}
