package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// NoticeRule says what is worth telling, and to whom beside the console.
type NoticeRule struct {
	ID     int64
	Name   string
	Inputs []string // by name; none are all
	Kinds  []string
	Mail   []string // addresses
	Hook   string   // URL that notices are posted to
	Secret string   // that they are signed with
	Off    bool
}

// NoticeRules lists the rules by name.
func (s *Store) NoticeRules(ctx context.Context) ([]NoticeRule, error) {
	return all[NoticeRule](s.Pool.Query(ctx, "SELECT * FROM notice_rules ORDER BY name"))
}

// NoticeRule returns the rule of that name, or ErrNotFound.
func (s *Store) NoticeRule(ctx context.Context, name string) (NoticeRule, error) {
	return one[NoticeRule](s.Pool.Query(ctx, "SELECT * FROM notice_rules WHERE name = $1", name))
}

// SaveNoticeRule adds a rule, or replaces the one of its name; that one's secret
// stays if there is a hook still.
func (s *Store) SaveNoticeRule(ctx context.Context, r NoticeRule) (NoticeRule, error) {
	return one[NoticeRule](s.Pool.Query(ctx, `INSERT INTO notice_rules (name, inputs, kinds, mail, hook, secret, off) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (name) DO UPDATE SET inputs = $2, kinds = $3, mail = $4, hook = $5, off = $7,
			secret = CASE WHEN $5 = '' OR notice_rules.secret = '' THEN $6 ELSE notice_rules.secret END RETURNING *`,
		r.Name, texts(r.Inputs), texts(r.Kinds), texts(r.Mail), r.Hook, r.Secret, r.Off))
}

// texts is a list that is no null.
func texts(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// DropNoticeRule takes a rule away, or returns ErrNotFound. What it sent stays.
func (s *Store) DropNoticeRule(ctx context.Context, name string) error {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM notice_rules WHERE name = $1", name)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// Told returns the keys that were told of an input (or of a place, with input
// 0), by kind. A kind that was looked for has an empty key.
func (s *Store) Told(ctx context.Context, place, input int64) (map[string]map[string]bool, error) {
	rows, err := s.Pool.Query(ctx, "SELECT kind, subject FROM told WHERE place_id = $1 AND input_id = $2", place, input)
	if err != nil {
		return nil, err
	}
	told := map[string]map[string]bool{}
	var kind, subject string
	_, err = pgx.ForEachRow(rows, []any{&kind, &subject}, func() error {
		if told[kind] == nil {
			told[kind] = map[string]bool{}
		}
		told[kind][subject] = true
		return nil
	})
	return told, err
}

// Telling is what becomes of one kind of notice of an input or a place.
type Telling struct {
	Kind  string
	Fresh []string // keys told from now on
	Over  []string // keys no longer
}

// NewNotice is a notice to be recorded.
type NewNotice struct {
	At                 time.Time
	Kind               string
	PlaceID            int64
	InputID            int64 // 0 for a place
	Sentence           string
	Count              int
	Named              []string
	RefreshID, Receipt int64
	Sends              []Send
}

// Send is a notice on its way to somebody.
type Send struct {
	Rule, Channel, Address string
	Due                    time.Time
}

// Tell records, in one transaction, what was told of an input or a place, the
// notices of it, the refreshes they are about, and to whom they go.
func (s *Store) Tell(ctx context.Context, place, input int64, tellings []Telling, refreshes []int64, notices []NewNotice) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		for _, t := range tellings {
			if _, err := tx.Exec(ctx, "DELETE FROM told WHERE place_id = $1 AND input_id = $2 AND kind = $3 AND subject = ANY($4)", place, input, t.Kind, texts(t.Over)); err != nil {
				return err
			}
			_, err := tx.Exec(ctx, "INSERT INTO told (place_id, input_id, kind, subject) SELECT $1, $2, $3, unnest($4::text[] || ''::text) ON CONFLICT DO NOTHING",
				place, input, t.Kind, texts(t.Fresh))
			if err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "UPDATE refreshes SET told = true WHERE id = ANY($1)", refreshes); err != nil {
			return err
		}
		for _, n := range notices {
			var id int64
			err := tx.QueryRow(ctx, `INSERT INTO notices (at, kind, place_id, input_id, sentence, count, named, refresh_id, receipt)
				VALUES ($1, $2, $3, nullif($4, 0), $5, $6, $7, nullif($8, 0), nullif($9, 0)) RETURNING id`,
				n.At, n.Kind, n.PlaceID, n.InputID, n.Sentence, n.Count, texts(n.Named), n.RefreshID, n.Receipt).Scan(&id)
			if err != nil {
				return err
			}
			for _, send := range n.Sends {
				if _, err := tx.Exec(ctx, "INSERT INTO notice_sends (notice_id, rule, channel, address, state, due) VALUES ($1, $2, $3, $4, 'due', $5)",
					id, send.Rule, send.Channel, send.Address, send.Due); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Notice is a recorded notice.
type Notice struct {
	ID        int64
	At        time.Time
	Kind      string
	Place     string
	Input     string // empty for a place
	Text      string // the input's definition
	Sentence  string
	Count     int
	Named     []string
	RefreshID int64
	Receipt   int64
	Seen      bool
	// Sends tells how far it is on its way to people and programs.
	Sends []NoticeSend
}

// NoticeSend is how far a notice is on its way.
type NoticeSend struct {
	Rule     string     `json:"rule"`
	Channel  string     `json:"channel"`
	Address  string     `json:"address"`
	State    string     `json:"state"`
	Attempts int        `json:"attempts"`
	Problem  string     `json:"problem"`
	Due      time.Time  `json:"due"`
	Sent     *time.Time `json:"sent"`
}

const selectNotice = `SELECT n.id, n.at, n.kind, p.name AS place, coalesce(i.name, '') AS input, coalesce(d.text, '') AS text, n.sentence, n.count, n.named,
	coalesce(n.refresh_id, 0) AS refresh_id, coalesce(n.receipt, 0) AS receipt, n.seen,
	(SELECT coalesce(jsonb_agg(to_jsonb(x) ORDER BY x.id), '[]') FROM notice_sends x WHERE x.notice_id = n.id) AS sends
	FROM notices n JOIN places p ON p.id = n.place_id LEFT JOIN inputs i ON i.id = n.input_id
	LEFT JOIN definitions d ON d.input_id = i.id AND d.version = i.version `

// Notices lists notices before one (0 for the newest), the newest first.
func (s *Store) Notices(ctx context.Context, before int64, unseen bool, limit int) ([]Notice, error) {
	return all[Notice](s.Pool.Query(ctx, selectNotice+`WHERE ($1 = 0 OR n.id < $1) AND NOT ($2 AND n.seen) ORDER BY n.id DESC LIMIT $3`, before, unseen, limit))
}

// UnseenNotices counts the notices that nobody saw.
func (s *Store) UnseenNotices(ctx context.Context) (n int64, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT count(*) FROM notices WHERE NOT seen").Scan(&n)
	return n, err
}

// SeeNotices marks the notices up to one as seen.
func (s *Store) SeeNotices(ctx context.Context, through int64) error {
	_, err := s.Pool.Exec(ctx, "UPDATE notices SET seen = true WHERE id <= $1 AND NOT seen", through)
	return err
}

// DueSend is a notice that is to be sent now. Of mail, all that waits for an
// address goes along as soon as one is due.
type DueSend struct {
	Notice
	SendID   int64
	Channel  string
	Address  string
	Rule     string
	Attempts int
}

// DueSends returns what is to be sent, by channel and address.
func (s *Store) DueSends(ctx context.Context, now time.Time) ([]DueSend, error) {
	return all[DueSend](s.Pool.Query(ctx, `WITH ready AS (SELECT channel, address FROM notice_sends WHERE state = 'due' AND due <= $1 GROUP BY 1, 2 ORDER BY min(due) LIMIT 100)
		SELECT x.id AS send_id, x.channel, x.address, x.rule, x.attempts, n.* FROM notice_sends x JOIN ready USING (channel, address)
		CROSS JOIN LATERAL (`+selectNotice+`WHERE n.id = x.notice_id) n
		WHERE x.state = 'due' AND (x.channel = 'mail' OR x.due <= $1) ORDER BY x.channel, x.address, x.id LIMIT 1000`, now))
}

// Sent records that sends arrived.
func (s *Store) Sent(ctx context.Context, sends []int64, at time.Time) error {
	_, err := s.Pool.Exec(ctx, "UPDATE notice_sends SET state = 'sent', sent = $2, attempts = attempts + 1, problem = '' WHERE id = ANY($1)", sends, at)
	return err
}

// NotSent records that sends failed, and when they are tried again; a zero time
// is never.
func (s *Store) NotSent(ctx context.Context, sends []int64, problem string, again time.Time) error {
	state := "due"
	if again.IsZero() {
		state = "given_up"
	}
	_, err := s.Pool.Exec(ctx, "UPDATE notice_sends SET state = $2, attempts = attempts + 1, problem = $3, due = CASE WHEN $2 = 'due' THEN $4 ELSE due END WHERE id = ANY($1)",
		sends, state, problem, again)
	return err
}

// UntoldRefreshes returns refreshes that ended and were not looked at for
// notices, the oldest first.
func (s *Store) UntoldRefreshes(ctx context.Context, limit int) ([]Refresh, error) {
	return all[Refresh](s.Pool.Query(ctx, selectRefresh+"WHERE NOT f.told AND f.ended IS NOT NULL ORDER BY f.id LIMIT $1", limit))
}
