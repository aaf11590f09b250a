package message

// ShowRecords writes the messages of a stretch of records that has been checked as others, which
// show gives in their place: the records keep their offsets and times. It is for readers who see
// a part of them.
func ShowRecords(chunk []byte, partition int, show func(*Stored) *Stored) (out []byte, err error) {
	var b Builder
	EachRecord(chunk, func(r Record) bool {
		if r.Kind != KindBatch {
			return true
		}
		err = r.Stored(partition, func(s *Stored) bool {
			b.Add(&show(s).Message)
			return true
		})
		if err != nil {
			return false
		}
		data := make([]byte, StampSize, StampSize+b.Size())
		r.Stamp().Put(data)
		shown := Record{Index: r.Index, Term: r.Term, Kind: KindBatch, Data: append(data, b.Build(Plain, nil)...)}
		prefix := len(out)
		out = append(out, make([]byte, RecordPrefix)...)
		shown.PutPrefix(out[prefix:])
		out = append(out, shown.Data...)
		return true
	})
	return out, err
}
