package tabular

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// appendCanonicalJSON writes a JSON text so that two that PostgreSQL's jsonb takes for
// equal are written alike: whatever the order of keys, the blanks, the escapes and the
// way of writing a number. Of a key that stands twice the last counts. A text that is no
// JSON is written as it is.
func appendCanonicalJSON(dst, text []byte) []byte {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return appendSized(dst, text)
	}
	return appendCanonicalItem(dst, v)
}

// appendSized writes bytes with their length before them.
func appendSized[T string | []byte](dst []byte, text T) []byte {
	return append(binary.BigEndian.AppendUint32(dst, uint32(len(text))), text...)
}

func appendCanonicalItem(dst []byte, v any) []byte {
	switch v := v.(type) {
	case nil:
		return append(dst, 'n')
	case bool:
		return strconv.AppendBool(dst, v)
	case string:
		return appendSized(append(dst, '"'), v)
	case json.Number:
		return appendCanonicalNumber(append(dst, '#'), string(v))
	case []any:
		dst = binary.BigEndian.AppendUint32(append(dst, '['), uint32(len(v)))
		for _, item := range v {
			dst = appendCanonicalItem(dst, item)
		}
	case map[string]any:
		dst = binary.BigEndian.AppendUint32(append(dst, '{'), uint32(len(v)))
		for _, key := range slices.Sorted(maps.Keys(v)) {
			dst = appendCanonicalItem(appendSized(dst, key), v[key])
		}
	}
	return dst
}

// appendCanonicalNumber writes a number of JSON as its digits, without zeros at either
// end, and the power of ten that the last of them counts.
func appendCanonicalNumber(dst []byte, text string) []byte {
	text, negative := strings.CutPrefix(text, "-")
	mantissa, power, _ := strings.Cut(strings.ToLower(text), "e")
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits := strings.TrimLeft(whole+fraction, "0")
	exponent, err := strconv.ParseInt(strings.TrimPrefix(power, "+"), 10, 64)
	if err != nil && power != "" {
		return appendSized(dst, text) // far beyond what a numeric holds
	}
	trimmed := strings.TrimRight(digits, "0")
	exponent += int64(len(digits)-len(trimmed)) - int64(len(fraction))
	if trimmed == "" {
		return appendSized(dst, "0")
	}
	if negative {
		dst = append(dst, '-')
	}
	return strconv.AppendInt(append(appendSized(dst, trimmed), 'e'), exponent, 10)
}
