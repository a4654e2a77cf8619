package design

// Internet is everybody on the internet. A design needs one only to name it in intents; what leads in and out is
// worked out from public addresses all the same.
type Internet struct {
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

func (*Internet) kind() Kind { return KindInternet }
