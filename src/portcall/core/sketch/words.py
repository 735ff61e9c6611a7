"""What a picture says, in German and Spanish: a picture is composed in English, and told again."""

from __future__ import annotations

from dataclasses import replace

from portcall.core.phrases import ENGLISH, Phrases, part_told
from portcall.core.sketch.picture import Band, Branch, Figure, Inner, Picture

_PHRASES = (
    ("this workstation", "dieser Rechner", "este ordenador"),
    ("no address of its own", "ohne eigene Adresse", "sin dirección propia"),
    (
        "as planned: which port each is plugged into, no plan says",
        "wie geplant: an welchem Port etwas steckt, sagt kein Plan",
        "según el plan: en qué puerto está cada uno, ningún plan lo dice",
    ),
    (
        "plugged in somewhere on this wire",
        "irgendwo an diesem Netz angeschlossen",
        "conectado en algún lugar de esta red",
    ),
    ("this workstation is behind {a}", "dieser Rechner ist an {a}", "este ordenador está en {a}"),
    ("next to this workstation", "neben diesem Rechner", "junto a este ordenador"),
    ("behind {a}: {b}", "hinter {a}: {b}", "detrás de {a}: {b}"),
    ("{a} there, {b} here", "dort {a}, hier {b}", "allí {a}, aquí {b}"),
    ("{a} there", "dort {a}", "allí {a}"),
    ("without an IPv4 address", "ohne IPv4-Adresse", "sin dirección IPv4"),
    ("mask assumed", "Maske angenommen", "máscara supuesta"),
    ("gateway {a} not there", "Gateway {a} nicht da", "puerta de enlace {a} ausente"),
    ("gateway {a}", "Gateway {a}", "puerta de enlace {a}"),
    ("{a}, continued", "{a}, Fortsetzung", "{a}, continuación"),
    ("no address", "keine Adresse", "sin dirección"),
    ("asks by {a}", "fragt über {a}", "pide por {a}"),
    ("answers for {a} addresses", "antwortet für {a} Adressen", "responde por {a} direcciones"),
    ("also {a}", "auch {a}", "también {a}"),
    ("planned {a}", "geplant {a}", "planificado {a}"),
    ("not there", "nicht da", "ausente"),
    ("not looked for", "nicht gesucht", "no buscado"),
    ("not in the plan", "nicht im Plan", "no está en el plan"),
    ("address twice", "Adresse doppelt", "dirección repetida"),
    ("planned elsewhere", "anderswo geplant", "planificado en otro lugar"),
    ("itself", "es selbst", "él mismo"),
    ("and {a} more inside", "und {a} weitere darin", "y {a} más dentro"),
    ("dashed", "gestrichelt", "discontinuo"),
    ("dotted", "gepunktet", "punteado"),
    ("red", "rot", "rojo"),
    ("orange", "orange", "naranja"),
    (
        "seen on {a} by {b} on {c}; {d} devices",
        "gesehen am {a} von {b} ({c}); {d} Geräte",
        "visto el {a} por {b} ({c}); {d} dispositivos",
    ),
    (
        "seen on {a}; {d} devices",
        "gesehen am {a}; {d} Geräte",
        "visto el {a}; {d} dispositivos",
    ),
    (
        "as planned; {a} devices; nothing was looked for",
        "wie geplant; {a} Geräte; nichts wurde gesucht",
        "según el plan; {a} dispositivos; no se buscó nada",
    ),
    ("sheet {a} of {b}", "Blatt {a} von {b}", "hoja {a} de {b}"),
    (
        "no switch told by SNMP who is behind which of its ports",
        "kein Switch hat über SNMP gesagt, wer an welchem Port ist",
        "ningún switch dijo por SNMP quién está en cada puerto",
    ),
    (
        "where no switch tells the port, it is not known",
        "wo kein Switch den Port nennt, ist er nicht bekannt",
        "donde ningún switch indica el puerto, no se conoce",
    ),
    (
        "the ports are as switches told on {a}",
        "die Ports sind, wie Switches sie am {a} nannten",
        "los puertos son los que los switches indicaron el {a}",
    ),
    (
        "this cable is in {a} of {b}, which announces itself here",
        "dieses Kabel steckt in {a} von {b}, das sich hier meldet",
        "este cable está en {a} de {b}, que se anuncia aquí",
    ),
    (
        "{a} devices announce themselves at this cable: something between passes that on",
        "{a} Geräte melden sich an diesem Kabel: etwas dazwischen gibt das weiter",
        "{a} dispositivos se anuncian en este cable: algo intermedio lo reenvía",
    ),
    (
        "{a} devices are behind {b} of {c}: what is between, a small switch or a chain of devices, "
        "does not tell",
        "{a} Geräte sind an {b} von {c}: was dazwischen ist, sagt es nicht",
        "{a} dispositivos están en {b} de {c}: lo que hay en medio no lo dice",
    ),
    (
        "{a} knows {b} more MACs, not heard here",
        "{a} kennt {b} weitere MACs, hier nicht gehört",
        "{a} conoce {b} MAC más, no oídas aquí",
    ),
    (
        "{a} knows {b} more MAC, not heard here",
        "{a} kennt {b} weitere MAC, hier nicht gehört",
        "{a} conoce {b} MAC más, no oída aquí",
    ),
    (
        "{a} did not tell all of its ports",
        "{a} hat nicht alle Ports genannt",
        "{a} no indicó todos sus puertos",
    ),
    (
        "and {a} more remarks of this kind",
        "und {a} weitere Bemerkungen dieser Art",
        "y {a} observaciones más de este tipo",
    ),
    ("or", "oder", "o"),
)

PHRASES = Phrases(_PHRASES)
told_in = PHRASES.told


def in_language(picture: Picture, language: str) -> Picture:
    """The same picture, told in a language."""
    if language == ENGLISH:
        return picture

    def say(text: str) -> str:
        return told_in(text, language)

    def figure(each: Figure) -> Figure:
        parts = tuple(
            Inner(part_told(part.part, language), say(part.words), part.mark)
            for part in each.inside
        )
        return replace(each, address=say(each.address), words=say(each.words), inside=parts)

    def band(each: Band) -> Band:
        label = ", ".join(map(say, each.label.split(", ")))
        return replace(each, label=label, figures=tuple(map(figure, each.figures)))

    def branch(each: Branch) -> Branch:
        return replace(
            each,
            title=each.title if each.switch is not None else say(each.title),
            switch=figure(each.switch) if each.switch is not None else None,
            plugged=say(each.plugged),
            bands=tuple(map(band, each.bands)),
            branches=tuple(map(branch, each.branches)),
        )

    return replace(
        picture,
        about=say(picture.about),
        workstation=tuple(map(say, picture.workstation)),
        branches=tuple(map(branch, picture.branches)),
        remarks=tuple(map(say, picture.remarks)),
    )
