package calendar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Language gives the names of months. The zero Language is English.
type Language struct{ tag string }

// months holds, by ISO 639-1 code, the names of months in small letters, as
// Unicode's CLDR has them: long|other long forms;short|other short forms.
var months = map[string]string{
	"en": "january;jan february;feb march;mar april;apr may;may june;jun july;jul august;aug september;sep|sept october;oct november;nov december;dec",
	"de": "januar|jänner;jan februar;feb märz;mär|mrz|märz april;apr mai;mai juni;jun|juni juli;jul|juli august;aug september;sep|sept oktober;okt november;nov dezember;dez",
	"fr": "janvier;janv|jan février;févr|fév mars;mars|mar avril;avr mai;mai juin;juin juillet;juil août;août|aoû septembre;sept|sep octobre;oct novembre;nov décembre;déc",
	"es": "enero;ene febrero;feb marzo;mar abril;abr mayo;may junio;jun julio;jul agosto;ago septiembre|setiembre;sept|sep|set octubre;oct noviembre;nov diciembre;dic",
	"it": "gennaio;gen febbraio;feb marzo;mar aprile;apr maggio;mag giugno;giu luglio;lug agosto;ago settembre;set|sett ottobre;ott novembre;nov dicembre;dic",
	"nl": "januari;jan februari;feb maart;mrt april;apr mei;mei juni;jun juli;jul augustus;aug september;sep|sept oktober;okt november;nov december;dec",
	"pt": "janeiro;jan fevereiro;fev março;mar abril;abr maio;mai junho;jun julho;jul agosto;ago setembro;set outubro;out novembro;nov dezembro;dez",
	"da": "januar;jan februar;feb marts;mar april;apr maj;maj juni;jun juli;jul august;aug september;sep|sept oktober;okt november;nov december;dec",
	"nb": "januar;jan februar;feb mars;mar april;apr mai;mai juni;jun juli;jul august;aug september;sep|sept oktober;okt november;nov desember;des",
	"sv": "januari;jan februari;feb mars;mar|mars april;apr maj;maj juni;jun|juni juli;jul|juli augusti;aug september;sep|sept oktober;okt november;nov december;dec",
	"fi": "tammikuuta|tammikuu;tammi helmikuuta|helmikuu;helmi maaliskuuta|maaliskuu;maalis huhtikuuta|huhtikuu;huhti toukokuuta|toukokuu;touko kesäkuuta|kesäkuu;kesä heinäkuuta|heinäkuu;heinä elokuuta|elokuu;elo syyskuuta|syyskuu;syys lokakuuta|lokakuu;loka marraskuuta|marraskuu;marras joulukuuta|joulukuu;joulu",
	"pl": "stycznia|styczeń;sty lutego|luty;lut marca|marzec;mar kwietnia|kwiecień;kwi maja|maj;maj czerwca|czerwiec;cze lipca|lipiec;lip sierpnia|sierpień;sie września|wrzesień;wrz października|październik;paź listopada|listopad;lis grudnia|grudzień;gru",
}

// Languages lists the codes of the languages whose months are known.
func Languages() []string {
	codes := make([]string, 0, len(months))
	for code := range months {
		codes = append(codes, code)
	}
	slices.Sort(codes)
	return codes
}

// ParseLanguage returns the language of an ISO 639-1 code.
func ParseLanguage(code string) (Language, error) {
	if _, known := months[code]; !known {
		return Language{}, fmt.Errorf("the months of the language %q are not known; known are %s", code, strings.Join(Languages(), " "))
	}
	return Language{code}, nil
}

// names returns the long and the short forms of a month, the usual one first.
func (l Language) names(month int) (long, short []string) {
	tag := l.tag
	if tag == "" {
		tag = "en"
	}
	written := strings.Fields(months[tag])[month-1]
	first, second, _ := strings.Cut(written, ";")
	return strings.Split(first, "|"), strings.Split(second, "|")
}

func (l Language) long(month int) string {
	long, _ := l.names(month)
	return l.cased(long[0])
}

func (l Language) short(month int) string {
	_, short := l.names(month)
	return l.cased(short[0])
}

// cased writes a month as the language does in running text.
func (l Language) cased(name string) string {
	if l.tag == "" || l.tag == "en" || l.tag == "de" {
		return titled(name)
	}
	return name
}

// Name is one way to write a month.
type Name struct {
	Text  string // small letters
	Month int
}

// Names returns every way to write the months that a part of a form accepts,
// longer ones first; short names may have a full stop after them.
func (l Language) Names(p Part) []Name {
	var list []Name
	for month := 1; month <= 12; month++ {
		long, short := l.names(month)
		if p.Count == 4 {
			short = long
		}
		for _, text := range short {
			if p.Count == 3 {
				list = append(list, Name{text + ".", month})
			}
			list = append(list, Name{text, month})
		}
	}
	slices.SortStableFunc(list, func(a, b Name) int { return len(b.Text) - len(a.Text) })
	return list
}

// cutMonth takes the name of a month off the start of a text; 0 if there is none.
func (l Language) cutMonth(p Part, text string) (month int, rest string) {
	tag := l.tag
	if tag == "" {
		tag = "en"
	}
	lower := strings.ToLower(text)
	if len(lower) != len(text) {
		return 0, text
	}
	for _, name := range spelt(tag, p.Count) {
		if rest, ok := strings.CutPrefix(lower, name.Text); ok {
			return name.Month, text[len(text)-len(rest):]
		}
	}
	return 0, text
}

var speltNames sync.Map // of language and count to names

func spelt(tag string, count int) []Name {
	key := tag + strconv.Itoa(count)
	if names, ok := speltNames.Load(key); ok {
		return names.([]Name)
	}
	names := Language{tag}.Names(Part{Letter: 'M', Count: count})
	speltNames.Store(key, names)
	return names
}

// days holds the names of the days of the week, from Monday.
var days = map[string]string{
	"en": "monday tuesday wednesday thursday friday saturday sunday",
	"de": "montag dienstag mittwoch donnerstag freitag samstag sonntag",
	"fr": "lundi mardi mercredi jeudi vendredi samedi dimanche",
	"es": "lunes martes miércoles jueves viernes sábado domingo",
	"it": "lunedì martedì mercoledì giovedì venerdì sabato domenica",
	"nl": "maandag dinsdag woensdag donderdag vrijdag zaterdag zondag",
	"pt": "segunda-feira terça-feira quarta-feira quinta-feira sexta-feira sábado domingo",
	"da": "mandag tirsdag onsdag torsdag fredag lørdag søndag",
	"nb": "mandag tirsdag onsdag torsdag fredag lørdag søndag",
	"sv": "måndag tisdag onsdag torsdag fredag lördag söndag",
	"fi": "maanantai tiistai keskiviikko torstai perjantai lauantai sunnuntai",
	"pl": "poniedziałek wtorek środa czwartek piątek sobota niedziela",
}

// MonthName and ShortMonth return the name of a month, DayName that of a day of
// the week, as the language writes them in running text.
func (l Language) MonthName(month int) string { return l.long(month) }

// ShortMonth returns a month's short name.
func (l Language) ShortMonth(month int) string { return l.short(month) }

// DayName returns the name of a day of the week.
func (l Language) DayName(d Day) string {
	tag := l.tag
	if tag == "" {
		tag = "en"
	}
	return l.cased(strings.Fields(days[tag])[(int(d.Time().Weekday())+6)%7])
}

// String returns the language's code.
func (l Language) String() string { return l.tag }
