package notation

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ladle/internal/core/fault"
)

// monthNames are the names of the months in languages (Unicode CLDR), in small letters: where a name has another form
// beside a day, both. Short forms that are no start of the name stand behind a bar.
var monthNames = map[string]string{
	"bg": "януари февруари март април май юни юли август септември октомври ноември декември",
	"ca": "gener febrer març abril maig juny juliol agost setembre octubre novembre desembre",
	"cs": "leden/ledna únor/února březen/března duben/dubna květen/května červen/června|čvn červenec/července|čvc srpen/srpna " +
		"září říjen/října listopad/listopadu prosinec/prosince",
	"da": "januar februar marts april maj juni juli august september oktober november december",
	"de": "januar/jänner februar/feber märz|mrz april mai juni juli august september oktober november dezember",
	"el": "ιανουάριος/ιανουαρίου φεβρουάριος/φεβρουαρίου μάρτιος/μαρτίου απρίλιος/απριλίου μάιος/μαΐου|μαΐ ιούνιος/ιουνίου " +
		"ιούλιος/ιουλίου αύγουστος/αυγούστου σεπτέμβριος/σεπτεμβρίου οκτώβριος/οκτωβρίου νοέμβριος/νοεμβρίου δεκέμβριος/δεκεμβρίου",
	"es": "enero febrero marzo abril mayo junio julio agosto septiembre/setiembre octubre noviembre diciembre",
	"et": "jaanuar veebruar märts aprill mai juuni juuli august september oktoober november detsember",
	"fi": "tammikuu/tammikuuta helmikuu/helmikuuta maaliskuu/maaliskuuta huhtikuu/huhtikuuta toukokuu/toukokuuta kesäkuu/kesäkuuta " +
		"heinäkuu/heinäkuuta elokuu/elokuuta syyskuu/syyskuuta lokakuu/lokakuuta marraskuu/marraskuuta joulukuu/joulukuuta",
	"fr": "janvier février mars avril mai juin juillet août septembre octobre novembre décembre",
	"hr": "siječanj/siječnja veljača/veljače ožujak/ožujka travanj/travnja svibanj/svibnja lipanj/lipnja srpanj/srpnja kolovoz/kolovoza " +
		"rujan/rujna listopad/listopada studeni/studenoga prosinac/prosinca",
	"hu": "január február március április május június július augusztus szeptember október november december",
	"is": "janúar febrúar mars apríl maí júní júlí ágúst september október nóvember desember",
	"it": "gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre novembre dicembre",
	"lt": "sausis/sausio vasaris/vasario kovas/kovo balandis/balandžio gegužė/gegužės birželis/birželio liepa/liepos " +
		"rugpjūtis/rugpjūčio rugsėjis/rugsėjo spalis/spalio lapkritis/lapkričio gruodis/gruodžio",
	"lv": "janvāris februāris marts aprīlis maijs jūnijs jūlijs augusts septembris oktobris novembris decembris",
	"nb": "januar februar mars april mai juni juli august september oktober november desember",
	"nl": "januari februari maart|mrt april mei juni juli augustus september oktober november december",
	"pl": "styczeń/stycznia luty/lutego marzec/marca kwiecień/kwietnia maj/maja czerwiec/czerwca lipiec/lipca sierpień/sierpnia " +
		"wrzesień/września październik/października listopad/listopada grudzień/grudnia",
	"pt": "janeiro fevereiro março abril maio junho julho agosto setembro outubro novembro dezembro",
	"ro": "ianuarie februarie martie aprilie mai iunie iulie august septembrie octombrie noiembrie decembrie",
	"ru": "январь/января февраль/февраля март/марта апрель/апреля май/мая июнь/июня июль/июля август/августа сентябрь/сентября " +
		"октябрь/октября ноябрь/ноября декабрь/декабря",
	"sk": "január/januára február/februára marec/marca apríl/apríla máj/mája jún/júna júl/júla august/augusta september/septembra " +
		"október/októbra november/novembra december/decembra",
	"sl": "januar/januarja februar/februarja marec/marca april/aprila maj/maja junij/junija julij/julija avgust/avgusta " +
		"september/septembra oktober/oktobra november/novembra december/decembra",
	"sv": "januari februari mars april maj juni juli augusti september oktober november december",
	"tr": "ocak şubat mart nisan mayıs haziran temmuz ağustos eylül ekim kasım aralık",
	"uk": "січень/січня лютий/лютого березень/березня квітень/квітня травень/травня червень/червня липень/липня серпень/серпня " +
		"вересень/вересня жовтень/жовтня листопад/листопада грудень/грудня",
}

// calendar is the names of the months in a language.
type calendar struct {
	language string
	full     [12][]string
	short    [12][]string
}

// calendarOf is that of a language, by its code of BCP 47; nil for English. Its error is a fault.InvalidValue.
func calendarOf(language string) (*calendar, error) {
	code, _, _ := strings.Cut(strings.ToLower(strings.ReplaceAll(language, "_", "-")), "-")
	if code == "" || code == "en" {
		return nil, nil
	}
	names, known := monthNames[code]
	if !known {
		return nil, fault.InvalidValue{What: fmt.Sprintf("can't be %q", language),
			Do: "write the code of a language: en, " + strings.Join(slices.Sorted(maps.Keys(monthNames)), ", ")}
	}
	c := &calendar{language: code}
	for i, month := range strings.Fields(names) {
		forms, short, _ := strings.Cut(month, "|")
		c.full[i] = strings.Split(forms, "/")
		if short != "" {
			c.short[i] = []string{short}
		}
	}
	return c, nil
}

func (c *calendar) lower(word string) string {
	if c.language == "tr" {
		return strings.ToLowerSpecial(unicode.TurkishCase, word)
	}
	return strings.ToLower(word)
}

// take reads the name of a month off the start of a cell, in full, or by its start of three characters or more, with a
// point behind it or without.
func (c *calendar) take(cell []byte, full bool, to *int64) (rest []byte, ok bool) {
	n := 0
	for n < len(cell) {
		char, size := utf8.DecodeRune(cell[n:])
		if !unicode.IsLetter(char) && !unicode.IsMark(char) {
			break
		}
		n += size
	}
	word := c.lower(string(cell[:n]))
	const least = 3
	for i := range c.full {
		fits := slices.Contains(c.full[i], word) || !full && slices.Contains(c.short[i], word)
		if !full && !fits && utf8.RuneCountInString(word) >= least {
			fits = c.starts(i, word)
		}
		if !fits {
			continue
		}
		if *to > 0 {
			*to = 0
			return nil, false // it could be two months
		}
		*to = int64(i + 1)
		if full {
			break
		}
	}
	if *to == 0 {
		return nil, false
	}
	rest = cell[n:]
	if !full && len(rest) > 0 && rest[0] == '.' {
		rest = rest[1:]
	}
	return rest, true
}

// starts reports whether a name of a month starts with a word that is no whole name of another one.
func (c *calendar) starts(month int, word string) bool {
	for i := range c.full {
		if i != month && slices.Contains(c.full[i], word) {
			return false
		}
	}
	return slices.ContainsFunc(c.full[month], func(name string) bool { return strings.HasPrefix(name, word) })
}
