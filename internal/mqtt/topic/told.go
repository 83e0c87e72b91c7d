package topic

// Telling is a topic on which many brokers tell of themselves, and what they tell there, in a word or two.
type Telling struct{ Topic, What string }

// Told are these topics. Names that begin with $ are the broker's own (3.1.1 §4.7.2, 5.0 §4.7.2); which there are is no
// matter of the standard, so a broker without them lacks nothing. It returns a new slice.
func Told() []Telling {
	return []Telling{
		{"$SYS/broker/version", Version},
		{"$SYS/broker/uptime", "up for"},
		{"$SYS/broker/clients/connected", "clients"},
		{"$SYS/broker/messages/received", "messages received"},
		{"$SYS/broker/messages/sent", "sent"},
		{"$SYS/broker/publish/messages/dropped", Dropped},
		{"$SYS/broker/retained messages/count", "stored"},
	}
}

// What is told that somebody asks for by its word.
const (
	Version = "version"
	Dropped = "dropped"
)
