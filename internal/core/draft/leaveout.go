package draft

import (
	"path"
	"regexp"
	"strings"

	"mullein/internal/core/filename"
)

// noData are names of files that lie beside data.
var noData = []struct {
	re  *regexp.Regexp
	why string
}{
	{regexp.MustCompile(`(?i)^_(success|started|committed|metadata|common_metadata|symlink|delta_log|temporary)`),
		"a mark of who wrote the files"},
	{regexp.MustCompile(`(?i)\.(crc|md5|sha1|sha256|sha512|sig|asc|sfv)$`), "a checksum"},
	{regexp.MustCompile(`(?i)^(read[-_ ]?me([-_. ].*)?|licen[cs]e|copying|changelog|notice|authors|contributing)(\.txt)?$|` +
		`\.(md|rst|pdf|docx?|html?|png|jpe?g|gif|py|r|ipynb|sh|exe|ya?ml|toml|ini|css|js)$`),
		"a text for people, a picture or a program"},
	{regexp.MustCompile(`(?i)(\.(bak|old|orig|save|swp|swo|swx|tmp|temp|part|partial|filepart|crdownload)|~)$|^~\$|` +
		`^#.*#$|^\.#|(?i)^(backup|copy) of |[-_. ](backup|copy|kopie)( ?\(\d+\))?\.[a-z0-9]+$`), "a backup, or a file at work"},
	{regexp.MustCompile(`(?i)^(thumbs\.db|desktop\.ini|\.ds_store|__macosx)$`), "a file of the desktop"},
	{regexp.MustCompile(`(?i)\.(ok|done|ready|trg|ctl|lck|lock|fin|end)$`), "a mark that another file is whole"},
}

// leftOut says why a file is no data, by its name; "" where it may be.
func leftOut(p string) string {
	if why := filename.LeftOut(p, 1); why != "" {
		return why
	}
	for _, part := range strings.Split(path.Dir(p), "/") {
		if strings.HasPrefix(part, "_delta_log") || strings.HasPrefix(part, "__MACOSX") || part == "_temporary" {
			return "in a folder that is no data"
		}
	}
	for _, n := range noData {
		if n.re.MatchString(path.Base(p)) {
			return n.why
		}
	}
	return ""
}
