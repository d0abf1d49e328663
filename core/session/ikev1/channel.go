package ikev1

import (
	"bytes"
	"crypto/cipher"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"

	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"
)

// channel is what both ends of an association have in common: its names and keys (RFC 2409 §5).
type channel struct {
	initiator, responder uint64 // cookies
	sa                   []byte // the initiator's proposals, as they were sent
	idI, idR             []byte // identities, as they were sent
	publicI, publicR     []byte
	nonceI, nonceR       []byte

	digest           func() hash.Hash
	seed, keyD, keyA []byte // SKEYID, SKEYID_d, SKEYID_a
	block            cipher.Block
	chain            []byte // the last block that was encrypted in the first phase
}

// errNotOurs says that a datagram does not answer the request, or not yet.
var errNotOurs = errors.New("a datagram of something else")

// suiteOf finds the suite of a transform for IKE.
func suiteOf(t ikev1.Transform, offered []suite.Proposal, auth uint16) (suite.Proposal, bool) {
	for _, p := range offered {
		if o, ok := ikev1.Offer(p, auth); ok && o.Says(t) {
			return p, true
		}
	}
	return suite.Proposal{}, false
}

// speaks tells whether a suite for IKE can be used here.
func speaks(p suite.Proposal) bool {
	_, _, cipher := ipsec.Block(p.Encryption)
	_, digest := ipsec.Digests[p.Integrity]
	g, group := suite.Find(p.Group)
	return cipher && digest && group && ipsec.Agrees(g)
}

// derive makes the keys of an association (RFC 2409 §5). By signature the secret makes the seed, by
// a pre-shared key that does.
func (c *channel) derive(p suite.Proposal, psk string, secret []byte) error {
	c.digest = ipsec.Digests[p.Integrity].Make
	nonces := append(bytes.Clone(c.nonceI), c.nonceR...)
	if psk != "" {
		c.seed = ipsec.MAC(c.digest, []byte(psk), nonces)
	} else {
		c.seed = ipsec.MAC(c.digest, nonces, secret)
	}
	tail := func(n byte) []byte { return append(append(bytes.Clone(secret), c.cookies()...), n) }
	c.keyD = ipsec.MAC(c.digest, c.seed, tail(0))
	c.keyA = ipsec.MAC(c.digest, c.seed, c.keyD, tail(1))
	key := ipsec.MAC(c.digest, c.seed, c.keyA, tail(2))
	make, size, ok := ipsec.Block(p.Encryption)
	if !ok {
		return ipsec.ErrSuite
	}
	if len(key) < size { // RFC 2409 appendix B
		var long []byte
		last := []byte{0}
		for len(long) < size {
			last = ipsec.MAC(c.digest, key, last)
			long = append(long, last...)
		}
		key = long
	}
	var err error
	if c.block, err = make(key[:size]); err != nil {
		return err
	}
	c.chain = c.iv(append(bytes.Clone(c.publicI), c.publicR...))
	return nil
}

func (c *channel) cookies() []byte {
	b := binary.BigEndian.AppendUint64(nil, c.initiator)
	return binary.BigEndian.AppendUint64(b, c.responder)
}

// iv is as much of a digest as the cipher needs to begin (RFC 2409 appendix B).
func (c *channel) iv(b []byte) []byte {
	h := c.digest()
	h.Write(b)
	return h.Sum(nil)[:c.block.BlockSize()]
}

// begins is where the encryption of an exchange of the second phase begins.
func (c *channel) begins(id uint32) []byte {
	return c.iv(binary.BigEndian.AppendUint32(bytes.Clone(c.chain), id))
}

// proof is what an end proves in the first phase (RFC 2409 §5): HASH_I, or HASH_R of the gateway.
func (c *channel) proof(gateway bool) []byte {
	if gateway {
		return ipsec.MAC(c.digest, c.seed, c.publicR, c.publicI,
			binary.BigEndian.AppendUint64(nil, c.responder),
			binary.BigEndian.AppendUint64(nil, c.initiator), c.sa, c.idR)
	}
	return ipsec.MAC(c.digest, c.seed, c.publicI, c.publicR, c.cookies(), c.sa, c.idI)
}

// wrap makes a datagram of encrypted payloads, and tells where the next one begins.
func (c *channel) wrap(
	exchange ikev1.Exchange,
	id uint32,
	iv []byte,
	payloads ...isakmp.Payload,
) (b, next []byte, err error) {
	first, text, err := isakmp.EncodeChain(payloads)
	if err != nil {
		return nil, nil, err
	}
	size := c.block.BlockSize()
	text = append(text, make([]byte, (size-len(text)%size)%size)...)
	b, err = isakmp.Encode(isakmp.Header{
		InitiatorSPI: c.initiator, ResponderSPI: c.responder, Major: 1, Exchange: uint8(exchange),
		Flags: ikev1.FlagEncrypted, ID: id,
	}, nil)
	if err != nil {
		return nil, nil, err
	}
	b[16] = first
	binary.BigEndian.PutUint32(b[24:], uint32(len(b)+len(text)))
	cipher.NewCBCEncrypter(c.block, iv).CryptBlocks(text, text)
	return append(b, text...), text[len(text)-size:], nil
}

const headSize = 28

// unwrap reads a datagram of encrypted payloads. Raw are their bytes, without padding. What does
// not make sense was encrypted with another key: there is no other sign of that in the first phase.
func (c *channel) unwrap(b, iv []byte) (list []isakmp.Payload, raw, next []byte, err error) {
	size := c.block.BlockSize()
	if len(b) < headSize+size || (len(b)-headSize)%size != 0 ||
		int(binary.BigEndian.Uint32(b[24:])) != len(b) {
		return nil, nil, nil, errNotOurs
	}
	text := make([]byte, len(b)-headSize)
	cipher.NewCBCDecrypter(c.block, iv).CryptBlocks(text, b[headSize:])
	list, behind, err := isakmp.DecodeBefore(b[16], text)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("%w: %w", errUnreadable, err)
	}
	return list, text[:len(text)-len(behind)], bytes.Clone(b[len(b)-size:]), nil
}

// errUnreadable says that a message does not make sense when it is decrypted.
var errUnreadable = errors.New("a message that does not decrypt")

// second is the proof over a message of the second phase (RFC 2409 §5.5): over parts, and what
// stands behind it.
func (c *channel) second(id uint32, parts ...[]byte) []byte {
	all := append([][]byte{binary.BigEndian.AppendUint32(nil, id)}, parts...)
	return ipsec.MAC(c.digest, c.keyA, all...)
}

// chained are the bytes of payloads that stand behind a proof of the second phase.
func chained(payloads []isakmp.Payload) ([]byte, error) {
	_, b, err := isakmp.EncodeChain(payloads)
	return b, err
}

// split cuts a message of the second phase into the proof at its begin and what stands behind.
func split(list []isakmp.Payload, raw []byte) (proof, rest []byte, err error) {
	if len(list) == 0 || list[0].Kind != ikev1.KindHash || len(raw) < 4+len(list[0].Body) {
		return nil, nil, errors.New("a message of the second phase without its proof")
	}
	return list[0].Body, raw[4+len(list[0].Body):], nil
}

// material makes the box of one direction of ESP (RFC 2409 §5.5). Secret is nil without a key
// exchange of its own.
func (c *channel) material(
	how ipsec.Method,
	secret, spi, nonceI, nonceR []byte,
) (*ipsec.Box, error) {
	seed := append(bytes.Clone(secret), 3) // ESP
	seed = append(append(append(seed, spi...), nonceI...), nonceR...)
	var keys, last []byte
	for len(keys) < how.Encryption+how.Integrity {
		last = ipsec.MAC(c.digest, c.keyD, last, seed)
		keys = append(keys, last...)
	}
	return how.Box(keys[:how.Encryption:how.Encryption], keys[how.Encryption:][:how.Integrity])
}

func numbers(random io.Reader, n int) ([]byte, error) {
	b := make([]byte, n)
	_, err := io.ReadFull(random, b)
	return b, err
}

// methodOfESP finds how a suite for ESP protects packets.
func methodOfESP(p suite.Proposal) (ipsec.Method, error) {
	return ipsec.MethodOf(p.Encryption, p.Integrity)
}
