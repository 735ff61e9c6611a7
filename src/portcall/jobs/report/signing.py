"""Signing a record's file, and checking that, by public means alone.

A file of any kind is signed beside itself, by ssh-keygen (PROTOCOL.sshsig of OpenSSH), which every
laptop has: with a key of the person's own, of an agent or of a hardware key. A PDF can have its
signature inside (ISO 32000-2, 12.8; ETSI EN 319 142-1), by a certificate in a file (PKCS #12, RFC
7292), so that a reader of PDF shows it; that needs pyhanko.
"""

from __future__ import annotations

import logging
import re
from collections.abc import Iterator
from contextlib import contextmanager
from io import BytesIO
from pathlib import Path
from typing import Any

from portcall.core.counted import counted
from portcall.core.printable import printable
from portcall.core.report.answers import Answer, Answered, Question
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.programs import has_run

NAMESPACE = "file"
"""Of a signature: what was signed is a file. The one that others use who sign files."""

ENDING = ".sig"
CERTIFICATES = (".p12", ".pfx")
_FIELD = "Signature"
_GOOD = re.compile(r'Good "file" signature (?:for (?P<who>.+) )?with (?P<key>\S+ key \S+)')


def sign_beside(file: Path, key: Path) -> Path:
    """Sign a file, and give where the signature is. Raises NotPossibleHere.

    ssh-keygen itself asks for the passphrase, or for a touch of the key.
    """
    beside = file.with_name(file.name + ENDING)
    beside.unlink(missing_ok=True)
    words = ["ssh-keygen", "-Y", "sign", "-f", str(key), "-n", NAMESPACE, str(file)]
    ended = has_run(words)
    if ended is None:
        raise NotPossibleHere(
            "ssh-keygen is not on this computer, and signs", "it is part of OpenSSH"
        )
    if ended.code != 0 or not beside.exists():
        raise NotPossibleHere(
            f"{file.name} is written and not signed: ssh-keygen says: "
            f"{ended.complaint or ended.told or 'nothing'}",
            "--sign names your own key: ~/.ssh/id_ed25519, or its .pub where an agent has it",
        )
    return beside


def signed_inside(octets: bytes, certificate: Path, passphrase: str) -> bytes:
    """A PDF with a signature in it. Raises BadInput, NotPossibleHere."""
    try:
        from pyhanko.pdf_utils.incremental_writer import IncrementalPdfFileWriter
        from pyhanko.sign import signers
    except ImportError:
        raise NotPossibleHere(
            "pyhanko: not installed, and needed to sign inside a PDF",
            "pip install 'portcall[sign]'",
        ) from None
    load: Any = signers.SimpleSigner.load_pkcs12
    with _quiet():
        signer = load(str(certificate), passphrase=passphrase.encode() or None)
    if signer is None:
        raise BadInput(
            f"{certificate}: cannot be opened: it is no certificate with its key, or the "
            "passphrase is another"
        )
    about = signers.PdfSignatureMetadata(field_name=_FIELD, md_algorithm="sha256")
    out = signers.sign_pdf(
        IncrementalPdfFileWriter(BytesIO(octets)), about, signer=signer, existing_fields_only=False
    )
    return bytes(out.getvalue())


def signature_of(file: Path, octets: bytes, signers: Path | None) -> Answered:
    """Whether a file is as it was signed: beside it, or in it. Raises NotPossibleHere."""
    beside = file.with_name(file.name + ENDING)
    if beside.exists():
        return _beside(file, beside, signers)
    if octets.startswith(b"%PDF") and b"/ByteRange" in octets:
        return _inside(octets)
    sentence = f"there is no signature: neither {beside.name} nor one in the file"
    return Answered(Question.SIGNATURE, Answer.NONE, (sentence,))


def _answer(told: Answer, *sentences: str) -> Answered:
    return Answered(Question.SIGNATURE, told, sentences)


def _beside(file: Path, beside: Path, signers: Path | None) -> Answered:
    about = ["-n", NAMESPACE, "-s", str(beside)]
    ended = has_run(["ssh-keygen", "-Y", "check-novalidate", *about], file)
    if ended is None:
        return _answer(Answer.UNKNOWN, "ssh-keygen is not on this computer, and checks signatures")
    found = _GOOD.search(ended.told)
    if ended.code != 0 or found is None:
        return _answer(Answer.NO, f"{beside.name} is no signature of this file as it is now")
    is_good = f"it is as it was when {found['key']} signed it"
    if signers is None:
        return _answer(
            Answer.YES,
            is_good,
            "whose key that is, the signature does not tell: --signers FILE names who may sign",
        )
    allowed = ["-f", str(signers)]
    named = has_run(["ssh-keygen", "-Y", "find-principals", *allowed, "-s", str(beside)], file)
    # A line of that file may name several, with commas between.
    principals = re.split("[,\n]", named.told) if named is not None else []
    for who in filter(None, principals):
        told = has_run(["ssh-keygen", "-Y", "verify", *allowed, "-I", who, *about], file)
        if told is not None and told.code == 0:
            return _answer(Answer.YES, f"{is_good}: that is {who} by {signers.name}")
    return _answer(Answer.NO, f"{is_good}, and {signers.name} does not name that key")


def _inside(octets: bytes) -> Answered:
    try:
        from pyhanko.pdf_utils.reader import PdfFileReader
        from pyhanko.sign.validation import validate_pdf_signature
        from pyhanko.sign.validation.status import SignatureCoverageLevel
        from pyhanko_certvalidator import ValidationContext
    except ImportError:
        return _answer(
            Answer.UNKNOWN,
            "it has a signature inside; a reader of PDF shows it, and here pip install "
            "'portcall[sign]' does",
        )
    try:
        with _quiet():
            (signature, *more) = PdfFileReader(BytesIO(octets)).embedded_signatures
            status = validate_pdf_signature(signature, ValidationContext(allow_fetching=False))
        who = printable(status.signing_cert.subject.human_friendly, 120)
        is_whole = status.intact and status.valid and not more
        is_all = status.coverage == SignatureCoverageLevel.ENTIRE_FILE
    except Exception as error:
        # What others made can raise nearly any error in its reader.
        return _answer(Answer.UNKNOWN, f"its signature cannot be read: {printable(str(error), 80)}")
    if not is_whole or not is_all:
        return _answer(Answer.NO, "it is not as it was when it was signed")
    trust = (
        "the certificate is one that this computer trusts"
        if status.trusted
        else "whether that certificate can be trusted is not asked here: a reader of PDF tells"
    )
    return _answer(Answer.YES, f"it is as it was when {who} signed it", trust)


def only_signed_since(octets: bytes, length: int) -> Answered:
    """Whether what was added behind a page of so many octets is a signature and nothing else."""

    def answer(told: Answer, sentence: str) -> Answered:
        return Answered(Question.PAGE, told, (sentence,))

    added = counted(len(octets) - length, "octet")
    try:
        from pyhanko.pdf_utils.reader import PdfFileReader
        from pyhanko.sign.validation.status import SignatureCoverageLevel
    except ImportError:
        return answer(
            Answer.UNKNOWN,
            f"it begins with the page that its data gives; whether the {added} behind that are a "
            "signature alone cannot be told without pip install 'portcall[sign]'",
        )
    try:
        with _quiet():
            reader = PdfFileReader(BytesIO(octets))
            last = reader.embedded_signatures[-1] if reader.embedded_signatures else None
            if last is not None:
                last.compute_integrity_info()
            is_all = last is not None and last.coverage == SignatureCoverageLevel.ENTIRE_FILE
            changed = set(_changed_behind(reader))
    except Exception as error:
        # What others made can raise nearly any error in its reader.
        sentence = f"what was added to the page cannot be read: {printable(str(error), 80)}"
        return answer(Answer.UNKNOWN, sentence)
    if not is_all:
        sentence = f"{added} were added behind the page that its data gives, and are no signature"
        return answer(Answer.NO, sentence)
    if changed - _BY_SIGNING:
        return answer(
            Answer.NO,
            "it begins with the page that its data gives, and what was added behind that changes "
            "what is shown",
        )
    if _SHOWN in changed:
        return answer(
            Answer.UNKNOWN,
            "it is the page that its data gives, with a signature that shows itself on it: whether "
            "that covers anything is to be looked at",
        )
    return answer(
        Answer.YES,
        f"it is the page that its data gives, with a signature of {added} behind it, and nothing "
        "else was added",
    )


_SHOWN = "a signature that is shown"
_BY_SIGNING = {
    *("/AcroForm", "/Annots", "/DSS", "/Extensions", "/ModDate", "/Producer", "/Version"),
    _SHOWN,
}
"""The keys of what was there that a signature changes or adds."""


def _changed_behind(reader: Any) -> Iterator[str]:
    """What later revisions of a PDF change in the objects of the first one, by their keys."""
    first = reader.get_historical_resolver(0)
    for revision in range(1, reader.xrefs.total_revisions):
        later = reader.get_historical_resolver(revision)
        for reference in reader.xrefs.explicit_refs_in_revision(revision):
            old, new = _there(first, reference), _there(later, reference)
            if old is None:
                continue
            is_shown = not isinstance(old, dict) or old.get("/Type") != "/Metadata"
            if not (isinstance(old, dict) and isinstance(new, dict)) or hasattr(
                new, "encoded_data"
            ):
                # What is in a stream may be another one of the same length.
                yield from ["an object"] if is_shown else ()
                continue
            for key in {*old, *new}:
                if _raw(old, key) != _raw(new, key):
                    yield str(key)
                    yield from _annotations(old, new) if key == "/Annots" else ()


def _there(resolver: Any, reference: Any) -> Any:
    """An object of a revision; None where that does not have it."""
    from pyhanko.pdf_utils.misc import PdfReadError

    try:
        return resolver(reference)
    except PdfReadError:
        return None


def _raw(values: Any, key: str) -> object:
    """A value as it is written, with what it refers to left alone."""
    return values.raw_get(key) if key in values else None


def _annotations(old: Any, new: Any) -> Iterator[str]:
    """What is odd about the annotations that were added to a page: only signatures may be."""
    count = len(old["/Annots"]) if "/Annots" in old else 0
    annotations = new["/Annots"] if "/Annots" in new else ()  # noqa: SIM401 - get does not resolve
    for each in (annotations[place] for place in range(count, len(annotations))):
        if each.get("/Subtype") != "/Widget" or each.get("/FT") != "/Sig":
            yield "an annotation"
        elif any(float(corner) for corner in each.get("/Rect", ())):
            yield _SHOWN


@contextmanager
def _quiet() -> Iterator[None]:
    """Have a library keep to itself what it would write to the screen."""
    before = logging.root.manager.disable
    logging.disable(logging.CRITICAL)
    try:
        yield
    finally:
        logging.disable(before)
