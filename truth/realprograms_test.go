package truth

// realProgram is one that nobody here wrote, from Debian's packages, at work on something
// that keeps it busy for about a second.
type realProgram struct {
	name    string
	debian  string // the package that brings it; "" where every Debian has it, or the project needs it anyway
	before  string // a shell's lines that prepare its input, in a folder of its own
	command string // a shell's words; what it writes goes nowhere
	// server: before starts it beside, and says its number with: echo $! > pid; command is
	// what keeps it busy. It is attached to.
	server bool
	// interpreted code, or code that is made at run time, has no tables of its own: how many
	// stacks are whole is told, but the target is for compiled programs.
	interpreted bool
	after       string // a shell's words that clean up behind a server
	direct      bool   // it is launched without a shell, so that its runtime gets the options that it needs
}

// numbers and text are inputs that several use.
const (
	numbersInput = "seq 1 1200000 | sort -R --random-source=/usr/bin/env > numbers"
	textInput    = "seq 1 300000 | awk '{print $1 % 997, \"slur over \" $1 % 31 \" notes\", $1 * 7919 % 1000003}' > text"
	binaryInput  = "head -c 30000000 /dev/urandom > noise; seq 1 3000000 > digits; cat noise digits > binary"
	sourceInput  = `for i in $(seq 1 220); do echo "int f$i(int a, int b) { int s = 0; for (int i = 0; i < a; i++) s += (i ^ b) * $i; return s > b ? s : f1(b, s - $i); }"; done > code.c; sed -i '1i int f1(int, int);' code.c`
	soundInput   = "ffmpeg -loglevel error -y -f lavfi -i 'anoisesrc=d=40:r=44100:a=0.3' tone.wav"
	muslSource   = `echo '#include <stdio.h>
#include <stdlib.h>
#include <string.h>
static int by(const void *a, const void *b) { return strcmp(*(char **)a, *(char **)b); }
int main(void) { enum { N = 120000 }; static char *page[N]; for (int k = 0; k < 6; k++) { for (int i = 0; i < N; i++) { page[i] = malloc(32); snprintf(page[i], 32, "%d", (int)((i * 7919L + k) % 1000003)); } qsort(page, N, sizeof *page, by); for (int i = 0; i < N; i++) free(page[i]); } return 0; }' > space.c`
	// PostgreSQL refuses to run as root, and its user may not look into root's folders.
	pgbench        = "runuser -u postgres -- $(ls -d /usr/lib/postgresql/*/bin | tail -1)/pgbench"
	postgresBefore = `d=$(mktemp -d /var/tmp/entelon-truth-XXXXXX); echo $d > where; chown postgres $d; here=$PWD; cd $d; b=$(ls -d /usr/lib/postgresql/*/bin | tail -1)
runuser -u postgres -- $b/initdb -D $d/data >/dev/null
runuser -u postgres -- $b/postgres -D $d/data -k $d -c listen_addresses= -c fsync=off >/dev/null 2>&1 &
for i in $(seq 100); do runuser -u postgres -- $b/createdb -h $d bench 2>/dev/null && break; sleep 0.1; done
` + pgbench + ` -q -i -s 2 -h $d bench >/dev/null 2>&1
head -1 $d/data/postmaster.pid > $here/pid`
	imageInput = "convert -size 1400x1400 plasma:fractal page.png"
)

// realPrograms are those of docs/truth.md. None is left out because it does badly.
var realPrograms = []realProgram{
	{name: "sort", before: numbersInput, command: "sort -n numbers"},
	{name: "sort, general", before: numbersInput, command: "sort -g --parallel=1 numbers"},
	{name: "sha256sum", before: binaryInput, command: "sha256sum binary binary binary"},
	{name: "grep", before: textInput, command: "grep -cE '(slur|note)(.*)([0-9]+) notes.*7([0-9])1\\2?' text text text text text text text text text"},
	{name: "sed", before: textInput, command: "sed -E 's/([0-9]+) slur (over) ([0-9]+)/\\3 \\2 \\1/g' text"},
	{name: "gzip", before: binaryInput, command: "gzip -c digits"},
	{name: "tar and gzip", before: binaryInput, command: "tar czf - digits digits"},
	{name: "xz", debian: "xz-utils", before: "seq 1 700000 > digits", command: "xz -c -T1 -3 digits"},
	{name: "bzip2", debian: "bzip2", before: "seq 1 1500000 > digits", command: "bzip2 -c digits"},
	{name: "zstd", debian: "zstd", before: binaryInput, command: "zstd -q -c -11 digits"},
	{name: "brotli", debian: "brotli", before: "seq 1 900000 > digits", command: "brotli -q 7 -c digits"},
	{name: "lz4", debian: "lz4", before: binaryInput, command: "lz4 -q -9 -c binary"},
	{name: "7z", debian: "p7zip-full", before: "seq 1 900000 > digits", command: "7z a -mmt=1 -bd out.7z digits"},
	{name: "zip", debian: "zip", before: binaryInput, command: "zip -q -9 - digits"},
	{name: "openssl", debian: "openssl", command: "openssl speed -seconds 1 -bytes 16384 rsa2048"},
	{name: "gcc", before: sourceInput, command: "gcc -O2 -c code.c -o code.o"},
	{name: "clang", debian: "clang-14", before: sourceInput, command: "clang-14 -O2 -w -c code.c -o code.o"},
	{name: "rustc", debian: "rustc", before: `echo 'use std::collections::*; fn main(){ let mut m: BTreeMap<String, Vec<HashMap<u32, String>>> = BTreeMap::new(); for i in 0..100u32 { m.entry(format!("{}", i%7)).or_default().push((0..i).map(|x| (x, format!("{x:?}"))).collect()); } println!("{:?}", m.values().flatten().map(|h| h.len()).collect::<Vec<_>>()); }' > big.rs`, command: "/usr/bin/rustc -O -C codegen-units=1 big.rs"},
	{name: "gofmt", command: "gofmt -l $(go env GOROOT)/src/net $(go env GOROOT)/src/runtime $(go env GOROOT)/src/crypto"},
	{name: "git", debian: "git", before: "git init -q r; cd r; for i in $(seq 1 70); do seq $i $((i * 2500)) > f$i; git add .; git -c user.name=quill -c user.email=quill@example.org commit -qm $i; done; cd ..", command: "git -C r repack -adfq --depth=50 --window=250 --threads=1"},
	{name: "make", debian: "make", before: "printf 'all: $(shell seq 1 300000)\\n%%:\\n\\t@:\\n.PHONY: all $(shell seq 1 300000)\\n' > Makefile", command: "make -s"},
	{name: "bash", command: `bash -c 'for ((i = 0; i < 400000; i++)); do s=${s:0:40}$i; done'`},
	{name: "dash", command: `dash -c 'i=0; while [ $i -lt 900000 ]; do i=$((i + 1)); done'`},
	{name: "gawk", debian: "gawk", before: textInput, command: "gawk '{ n[$1] += $6; for (i = 1; i <= NF; i++) w[$i]++ } END { print length(n), length(w) }' text text"},
	{name: "bc", debian: "bc", command: "sh -c 'echo \"scale=1100; 4*a(1)\" | bc -l'"},
	{name: "jq", debian: "jq", before: `seq 1 60000 | awk '{print "{\"page\": " $1 ", \"notes\": [" $1 % 7 "," $1 % 11 "]}"}' > pages.json`, command: "jq -c 'select(.page % 3 == 0) | .notes | add' pages.json"},
	{name: "sqlite3", debian: "sqlite3", command: `sqlite3 :memory: "create table n(a,b); with recursive c(x) as (select 1 union all select x+1 from c where x<500000) insert into n select x, x*7919%1000003 from c; create index i on n(b); select count(*), sum(a) from n where b in (select b+1 from n);"`},
	{name: "xsltproc", debian: "xsltproc", before: `(echo '<s>'; seq 1 150000 | sed 's|.*|<n p="&">&</n>|'; echo '</s>') > s.xml; echo '<xsl:stylesheet version="1.0" xmlns:xsl="http://www.w3.org/1999/XSL/Transform"><xsl:template match="/"><xsl:for-each select="s/n"><xsl:sort select="@p" data-type="text"/><xsl:value-of select="concat(@p, substring(., 2))"/></xsl:for-each></xsl:template></xsl:stylesheet>' > s.xsl`, command: "xsltproc s.xsl s.xml"},
	{name: "convert", debian: "imagemagick", before: imageInput, command: "env MAGICK_THREAD_LIMIT=1 convert page.png -resize 700x700 -blur 0x3 -rotate 7 out.png"},
	{name: "cwebp", debian: "webp", before: imageInput, command: "cwebp -quiet -m 5 page.png -o out.webp"},
	{name: "optipng", debian: "optipng", before: "convert -size 700x700 plasma:fractal page.png", command: "optipng -quiet -o3 -force -clobber -out out.png page.png"},
	{name: "ffmpeg, x264", debian: "ffmpeg", command: "ffmpeg -loglevel error -y -f lavfi -i testsrc2=s=640x360:d=5 -threads 1 -c:v libx264 -f null -"},
	{name: "ffmpeg, audio", debian: "ffmpeg", before: soundInput, command: "ffmpeg -loglevel error -y -i tone.wav -c:a aac -f null -"},
	{name: "flac", debian: "flac", before: soundInput, command: "flac --silent -8 -e -p -f -o out.flac tone.wav"},
	{name: "lame", debian: "lame", before: soundInput, command: "lame --quiet tone.wav out.mp3"},
	{name: "oggenc", debian: "vorbis-tools", before: soundInput, command: "oggenc -Q -o out.ogg tone.wav"},
	{name: "dot", debian: "graphviz", before: `(echo 'digraph s {'; seq 1 260 | awk '{print "n" $1 " -> n" $1 * 7 % 261 "; n" $1 " -> n" $1 * 13 % 261 ";"}'; echo '}') > s.dot`, command: "dot -Tsvg s.dot -o s.svg"},
	{name: "gnuplot", debian: "gnuplot-nox", command: `gnuplot -e "set terminal svg; set output 'o.svg'; set samples 200000; plot sin(x)*exp(-x*x/40), besj0(x)"`},
	{name: "gs", debian: "ghostscript", before: `printf '%%!PS\n/n 0 def 0 1 9000 { /n exch def n 7 mod 70 mul n 11 mod 60 mul moveto n 13 mod 40 mul n 17 mod 40 mul rlineto stroke } for showpage\n' > p.ps`, command: "gs -q -dNOPAUSE -dBATCH -sDEVICE=png16m -r200 -sOutputFile=p.png p.ps"},
	{name: "busybox, static", debian: "busybox-static", before: numbersInput, command: "busybox sort -n numbers"},
	{name: "made with musl", debian: "musl-tools", before: muslSource + "; musl-gcc -O2 -s -o space space.c", command: "./space"},
	{name: "musl, static", debian: "musl-tools", before: muslSource + "; musl-gcc -O2 -static -s -o space space.c", command: "./space"},
	{name: "perl", command: `perl -e 'my %h; for (1 .. 4500000) { $h{$_ % 4093} .= chr(65 + $_ % 26); $h{$_ % 97} =~ s/ABC/x/ if $_ % 50 == 0 } print scalar keys %h'`},
	{name: "python3", command: `/usr/bin/python3 -c 'print(sum(len(str(i * i)) for i in range(2500000)))'`},
	{name: "ruby", debian: "ruby", command: `ruby -e 'h = Hash.new(0); 1500000.times { |i| h[i % 4093] += i.to_s.size }; puts h.size'`},
	{name: "php", debian: "php-cli", command: `php -r '$h = []; for ($i = 0; $i < 6000000; $i++) { $k = $i % 4093; $h[$k] = ($h[$k] ?? 0) + strlen((string) $i); } echo count($h);'`},
	{name: "lua", debian: "lua5.4", command: `lua5.4 -e 'local h = {} for i = 1, 6000000 do local k = i % 4093 h[k] = (h[k] or 0) + #tostring(i % 100) end print(#h)'`},
	{name: "tclsh", debian: "tcl", before: `echo 'for {set i 0} {$i < 1500000} {incr i} { set h([expr {$i % 4093}]) [string length $i] }; puts [array size h]' > s.tcl`, command: "tclsh s.tcl"},
	{name: "node", command: `node -e 'const h = new Map(); for (let i = 0; i < 12e6; i++) { const k = i % 4093; h.set(k, (h.get(k) || 0) + String(i).length) } console.log(h.size)'`, interpreted: true},
	{name: "java", before: "printf 'public class S { public static void main(String[] a) { java.util.HashMap<Integer, Integer> h = new java.util.HashMap<>(); for (int i = 0; i < 60000000; i++) h.merge(i %% 4093, Integer.toString(i & 1023).length(), Integer::sum); System.out.println(h.size()); } }' > S.java; javac S.java", command: "java -cp . S", interpreted: true, direct: true},
	{name: "luajit", debian: "luajit", command: `luajit -e 'local h = {} for i = 1, 60000000 do local k = i % 4093 h[k] = (h[k] or 0) + i % 7 end print(#h)'`, interpreted: true},
	{name: "guile", debian: "guile-3.0", command: `guile-3.0 --no-auto-compile -c '(define (f n) (if (< n 2) n (+ (f (- n 1)) (f (- n 2))))) (display (f 34))'`, interpreted: true},
	{name: "erl", debian: "erlang-base", command: `erl -noshell -eval 'F = fun G(N) when N < 2 -> N; G(N) -> G(N-1) + G(N-2) end, io:format("~p", [F(27)]), halt().'`, interpreted: true},
	// As Entelon starts it where it is the command itself, and not a shell's.
	{name: "erl, launched", debian: "erlang-base", command: `erl +JPperf map -noshell -eval 'F = fun G(N) when N < 2 -> N; G(N) -> G(N-1) + G(N-2) end, io:format("~p", [F(27)]), halt().'`},
	{name: "Rscript", debian: "r-base-core", command: `Rscript -e 'x <- 0; for (i in 1:12000000) x <- x + i %% 7; print(x)'`, interpreted: true},
	{name: "redis-server", debian: "redis-server", server: true, before: "redis-server --port 7397 --save '' --daemonize no >/dev/null 2>&1 & echo $! > pid; sleep 1", command: "redis-benchmark -p 7397 -q -n 120000 -t set,get,lpush"},
	{name: "nginx", debian: "nginx-light", server: true, before: `mkdir -p www l; echo score > www/index.html; printf 'daemon off; worker_processes 2; pid %s/n.pid; error_log %s/l/e; events {} http { access_log off; server { listen 127.0.0.1:7398; root %s/www; } }' $PWD $PWD $PWD > n.conf; nginx -c $PWD/n.conf -p $PWD/ >/dev/null 2>&1 & echo $! > pid; sleep 1`, command: "ab -q -n 30000 -c 8 http://127.0.0.1:7398/index.html"},
	{name: "postgres", debian: "postgresql", server: true, before: postgresBefore, command: "d=$(cat where); " + pgbench + " -c 10 -T 6 -h $d bench", after: "rm -rf $(cat where)"},
	{name: "python3, http.server", debian: "apache2-utils", server: true, before: "mkdir -p www; echo score > www/index.html; /usr/bin/python3 -m http.server 7399 -b 127.0.0.1 -d www >/dev/null 2>&1 & echo $! > pid; sleep 1", command: "ab -q -n 5000 -c 4 http://127.0.0.1:7399/index.html"},
}
