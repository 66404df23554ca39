package objects

import (
	"crypto/md5"
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// store is objects in memory, which the stand-ins below hand out by what Mullein uses of the vendors' protocols.
type store struct {
	mu      sync.Mutex
	objects map[string]object
	last    int64 // version
}

type object struct {
	content []byte
	version int64
	at      time.Time
	tier    string // of Azure
}

func newStore() *store { return &store{objects: map[string]object{}} }

func (s *store) put(key string, content []byte) object {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.last++
	s.objects[key] = object{content, s.last, time.Now().UTC().Truncate(time.Second), "Hot"}
	return s.objects[key]
}

// move moves an object to another tier; its version stays.
func (s *store) move(key, tier string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.objects[key]
	o.tier = tier
	s.objects[key] = o
}

func (s *store) get(key string) (object, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o, there := s.objects[key]
	return o, there
}

func (s *store) remove(key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.objects, key)
}

// keys returns up to most keys with a prefix, after one.
func (s *store) keys(prefix, after string, most int) (out []string, more bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(s.objects)) {
		if !strings.HasPrefix(key, prefix) || key <= after {
			continue
		}
		if len(out) == most {
			return out, true
		}
		out = append(out, key)
	}
	return out, false
}

func (o object) tag() string { return fmt.Sprintf("0x%X", o.version) }

func (o object) md5() string {
	sum := md5.Sum(o.content)
	return base64.StdEncoding.EncodeToString(sum[:])
}

// azureServer speaks what Mullein uses of the protocol of Azure's blobs.
type azureServer struct {
	*store
	root string // /account/container
}

// ServeHTTP answers a request.
func (s *azureServer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Query().Get("sig") != "secret" {
		w.WriteHeader(http.StatusForbidden)
		return
	}
	rest, inside := strings.CutPrefix(r.URL.Path, s.root)
	if !inside {
		fail(w, http.StatusNotFound, "ContainerNotFound")
		return
	}
	key := strings.TrimPrefix(rest, "/")
	o, there := s.get(key)
	switch {
	case key == "" && r.URL.Query().Get("comp") == "list":
		s.list(w, r)
	case r.Method == http.MethodPut && r.Header.Get("x-ms-copy-source") != "":
		source, err := url.Parse(r.Header.Get("x-ms-copy-source"))
		from, known := s.get(strings.TrimPrefix(source.Path, s.root+"/"))
		if err != nil || !known {
			fail(w, http.StatusNotFound, "BlobNotFound")
			return
		}
		s.head(w, s.put(key, from.content))
		w.Header().Set("x-ms-copy-status", "success")
		w.WriteHeader(http.StatusAccepted)
	case r.Method == http.MethodPut:
		content, err := io.ReadAll(r.Body)
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		s.head(w, s.put(key, content))
		w.WriteHeader(http.StatusCreated)
	case !there:
		fail(w, http.StatusNotFound, "BlobNotFound")
	case r.Method == http.MethodDelete:
		s.remove(key)
		w.WriteHeader(http.StatusAccepted)
	case r.Header.Get("If-Match") != "" && r.Header.Get("If-Match") != o.tag():
		fail(w, http.StatusPreconditionFailed, "ConditionNotMet")
	case r.Method == http.MethodHead:
		s.head(w, o)
		w.Header().Set("Content-Length", strconv.Itoa(len(o.content)))
	default:
		s.head(w, o)
		content, status := ranged(w, o, r.Header.Get("x-ms-range"))
		w.Header().Set("Content-Length", strconv.Itoa(len(content)))
		w.WriteHeader(status)
		_, _ = w.Write(content)
	}
}

func fail(w http.ResponseWriter, status int, code string) {
	w.Header().Set("x-ms-error-code", code)
	w.WriteHeader(status)
	fmt.Fprintf(w, `<?xml version="1.0"?><Error><Code>%s</Code></Error>`, code)
}

// ranged returns what a range asks for.
func ranged(w http.ResponseWriter, o object, asked string) ([]byte, int) {
	text, of := strings.CutPrefix(asked, "bytes=")
	if !of {
		return o.content, http.StatusOK
	}
	from, to, _ := strings.Cut(text, "-")
	begin, _ := strconv.Atoi(from)
	end := len(o.content)
	if n, err := strconv.Atoi(to); err == nil {
		end = min(end, n+1)
	}
	w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", begin, end-1, len(o.content)))
	return o.content[begin:end], http.StatusPartialContent
}

func (s *azureServer) head(w http.ResponseWriter, o object) {
	w.Header().Set("ETag", o.tag())
	w.Header().Set("Last-Modified", o.at.Format(http.TimeFormat))
	w.Header().Set("x-ms-creation-time", o.at.Format(http.TimeFormat))
	w.Header().Set("x-ms-access-tier", o.tier)
	w.Header().Set("Content-MD5", o.md5())
}

func (s *azureServer) list(w http.ResponseWriter, r *http.Request) {
	type properties struct {
		Tag      string `xml:"Etag"`
		Modified string `xml:"Last-Modified"`
		Length   int    `xml:"Content-Length"`
		MD5      string `xml:"Content-MD5"`
		Tier     string `xml:"AccessTier"`
	}
	type blob struct {
		Name       string
		Properties properties
	}
	var out struct {
		XMLName    xml.Name `xml:"EnumerationResults"`
		Blobs      []blob   `xml:"Blobs>Blob"`
		NextMarker string
	}
	keys, more := s.keys(r.URL.Query().Get("prefix"), r.URL.Query().Get("marker"), 2)
	for _, key := range keys {
		o, _ := s.get(key)
		out.Blobs = append(out.Blobs, blob{key, properties{o.tag(), o.at.Format(http.TimeFormat), len(o.content), o.md5(), o.tier}})
		if more {
			out.NextMarker = key
		}
	}
	w.Header().Set("Content-Type", "application/xml")
	_ = xml.NewEncoder(w).Encode(out)
}

// googleServer speaks what Mullein uses of the JSON protocol of Google's storage.
type googleServer struct {
	*store
	bucket string
}

// ServeHTTP answers a request.
func (s *googleServer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	at := r.URL.EscapedPath()
	for _, before := range []string{"/storage/v1", "/upload/storage/v1", "/download/storage/v1", "/resumable/upload/storage/v1"} {
		at = strings.TrimPrefix(at, before)
	}
	if at == "/b/"+s.bucket {
		answer(w, map[string]any{"kind": "storage#bucket", "name": s.bucket, "lifecycle": map[string]any{"rule": []any{
			map[string]any{"action": map[string]any{"type": "Delete"}, "condition": map[string]any{"age": 30, "matchesPrefix": []string{"prefix/"}}},
			map[string]any{"action": map[string]any{"type": "Delete"}, "condition": map[string]any{"age": 1, "matchesPrefix": []string{"other/"}}}}}})
		return
	}
	rest, objects := strings.CutPrefix(at, "/b/"+s.bucket+"/o")
	if !objects {
		s.media(w, r)
		return
	}
	key, _ := url.PathUnescape(strings.TrimPrefix(rest, "/"))
	from, to, copied := strings.Cut(strings.TrimPrefix(rest, "/"), "/rewriteTo/b/"+s.bucket+"/o/")
	o, there := s.get(key)
	switch {
	case copied:
		from, _ = url.PathUnescape(from)
		to, _ = url.PathUnescape(to)
		source, known := s.get(from)
		if !known {
			notFound(w)
			return
		}
		answer(w, map[string]any{"kind": "storage#rewriteResponse", "done": true, "resource": s.described(to, s.put(to, source.content))})
	case r.Method == http.MethodPost:
		s.upload(w, r)
	case key == "":
		s.list(w, r)
	case !there:
		notFound(w)
	case r.Method == http.MethodDelete:
		s.remove(key)
		w.WriteHeader(http.StatusNoContent)
	case r.URL.Query().Get("alt") == "media":
		s.hand(w, r, o)
	default:
		answer(w, s.described(key, o))
	}
}

// media hands out an object by the path that the vendor's library reads from.
func (s *googleServer) media(w http.ResponseWriter, r *http.Request) {
	key, inside := strings.CutPrefix(r.URL.Path, "/"+s.bucket+"/")
	o, there := s.get(key)
	if !inside || !there {
		notFound(w)
		return
	}
	s.hand(w, r, o)
}

func (s *googleServer) hand(w http.ResponseWriter, r *http.Request, o object) {
	if g := r.URL.Query().Get("generation"); g != "" && g != strconv.FormatInt(o.version, 10) {
		notFound(w)
		return
	}
	w.Header().Set("X-Goog-Generation", strconv.FormatInt(o.version, 10))
	w.Header().Set("Last-Modified", o.at.Format(http.TimeFormat))
	content, status := ranged(w, o, r.Header.Get("Range"))
	w.Header().Set("Content-Length", strconv.Itoa(len(content)))
	w.WriteHeader(status)
	_, _ = w.Write(content)
}

func notFound(w http.ResponseWriter) {
	w.WriteHeader(http.StatusNotFound)
	fmt.Fprint(w, `{"error": {"code": 404, "message": "not found"}}`)
}

func answer(w http.ResponseWriter, what any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(what)
}

func (s *googleServer) described(key string, o object) map[string]any {
	sum := crc32.Checksum(o.content, crc32.MakeTable(crc32.Castagnoli))
	return map[string]any{"kind": "storage#object", "bucket": s.bucket, "name": key, "size": strconv.Itoa(len(o.content)),
		"generation": strconv.FormatInt(o.version, 10), "metageneration": "1", "etag": o.tag(), "updated": o.at.Format(time.RFC3339),
		"timeCreated": o.at.Format(time.RFC3339), "md5Hash": o.md5(), "storageClass": "STANDARD",
		"crc32c": base64.StdEncoding.EncodeToString([]byte{byte(sum >> 24), byte(sum >> 16), byte(sum >> 8), byte(sum)})}
}

func (s *googleServer) upload(w http.ResponseWriter, r *http.Request) {
	_, parameters, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	parts := multipart.NewReader(r.Body, parameters["boundary"])
	var described struct{ Name string }
	first, err := parts.NextPart()
	if err == nil {
		err = json.NewDecoder(first).Decode(&described)
	}
	var content []byte
	if err == nil {
		var second *multipart.Part
		if second, err = parts.NextPart(); err == nil {
			content, err = io.ReadAll(second)
		}
	}
	if err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	answer(w, s.described(described.Name, s.put(described.Name, content)))
}

func (s *googleServer) list(w http.ResponseWriter, r *http.Request) {
	keys, more := s.keys(r.URL.Query().Get("prefix"), r.URL.Query().Get("pageToken"), 2)
	out := map[string]any{"kind": "storage#objects"}
	var items []any
	for _, key := range keys {
		o, _ := s.get(key)
		items = append(items, s.described(key, o))
		if more {
			out["nextPageToken"] = key
		}
	}
	out["items"] = items
	answer(w, out)
}
