"""The words of a record in English, German and Spanish.

What devices said stays as they said it.
"""

from __future__ import annotations

from collections.abc import Mapping

from portcall.core.phrases import LANGUAGES, Phrases

_WORDS = {
    "title": ("Hand-over record", "Übergabeprotokoll", "Acta de entrega"),
    "as_of": ("As of", "Stand", "Estado a"),
    "site": ("Site", "Anlage", "Instalación"),
    "people": ("Done by", "Ausgeführt von", "Realizado por"),
    "tool": ("Made with", "Erstellt mit", "Hecho con"),
    "summary": ("Result", "Ergebnis", "Resultado"),
    "verified_right": ("verified right", "geprüft und richtig", "verificados y correctos"),
    "of": ("of", "von", "de"),
    "devices": ("Devices", "Geräte", "Dispositivos"),
    "name": ("Name", "Name", "Nombre"),
    "place": ("Place", "Ort", "Lugar"),
    "group": ("Group", "Gruppe", "Grupo"),
    "maker": ("Maker", "Hersteller", "Fabricante"),
    "product": ("Product", "Produkt", "Producto"),
    "serial": ("Serial number", "Seriennummer", "Número de serie"),
    "firmware": ("Firmware", "Firmware", "Firmware"),
    "mac": ("MAC", "MAC", "MAC"),
    "address": ("Address", "Adresse", "Dirección"),
    "mask": ("Mask", "Maske", "Máscara"),
    "gateway": ("Gateway", "Gateway", "Puerta de enlace"),
    "holds": ("Holds its address", "Hält seine Adresse", "Conserva su dirección"),
    "proof": ("Proof", "Nachweis", "Prueba"),
    "marked": ("✓ verified right", "✓ geprüft: richtig", "✓ verificado: correcto"),
    "state": ("State", "Zustand", "Estado"),
    "verified": ("Verified", "Geprüft", "Verificado"),
    "echo": ("Echo", "Echo", "Eco"),
    "power_cycle": ("Power cycle", "Aus- und Einschalten", "Apagado y encendido"),
    "by_hand": ("read by hand", "von Hand abgelesen", "leído a mano"),
    "planned": ("planned", "geplant", "planificado"),
    # Beside an address, where a longer word takes a line more of each device.
    "by_plan": ("planned", "geplant", "plan"),
    "open": ("What is open", "Offene Punkte", "Pendiente"),
    "nothing_open": (
        "Nothing: every planned device is verified right.",
        "Nichts: jedes geplante Gerät ist geprüft und richtig.",
        "Nada: todos los dispositivos planificados están verificados y correctos.",
    ),
    "what": ("What", "Was", "Qué"),
    "next": ("What to do", "Was zu tun ist", "Qué hacer"),
    "changes": (
        "What was changed, and what it was before",
        "Was geändert wurde, und wie es vorher war",
        "Qué se cambió, y cómo estaba antes",
    ),
    "when": ("When", "Wann", "Cuándo"),
    "who": ("Who", "Wer", "Quién"),
    "now": ("Now", "Jetzt", "Ahora"),
    "before": ("Before", "Vorher", "Antes"),
    "replaced": ("What was replaced", "Was ersetzt wurde", "Qué se sustituyó"),
    "old": ("Old device", "Altes Gerät", "Dispositivo antiguo"),
    "new": ("New device", "Neues Gerät", "Dispositivo nuevo"),
    "verdict": ("Verdict", "Urteil", "Resultado"),
    "watches": (
        "Watches of the connection",
        "Dauermessungen der Verbindung",
        "Vigilancia de la conexión",
    ),
    "target": ("Target", "Ziel", "Objetivo"),
    "sent": ("Sent", "Gesendet", "Enviados"),
    "lost": ("Lost", "Verloren", "Perdidos"),
    "median": ("Median", "Median", "Mediana"),
    "gap": ("Longest gap", "Längste Lücke", "Pausa más larga"),
    "lasted": ("Lasted", "Dauer", "Duración"),
    "sketch": ("Sketch", "Skizze", "Croquis"),
    "before_title": (
        "Sheet for commissioning",
        "Blatt für die Inbetriebnahme",
        "Hoja para la puesta en marcha",
    ),
    "kind": ("Kind", "Art", "Tipo"),
    "no_panel": ("Without a place", "Ohne Ort", "Sin lugar"),
    "is_kept": ("Keeps", "Hält", "Conserva"),
    "is_proved": ("Tested", "Geprüft", "Probado"),
    "initials": ("By", "Von", "Por"),
    "done_by": ("Done by", "Ausgeführt von", "Realizado por"),
    "notes": ("Notes", "Notizen", "Notas"),
    "note": ("Note", "Notiz", "Nota"),
    "came_back": (
        "{came} of {sent} came back",
        "{came} von {sent} kamen zurück",
        "volvieron {came} de {sent}",
    ),
    "of_plan": ("the plan", "der Plan", "el plan"),
    "remarks": ("Remarks", "Bemerkungen", "Observaciones"),
    "none": ("Nothing.", "Nichts.", "Nada."),
    "none_of_watches": ("None.", "Keine.", "Ninguna."),
    "signatures": ("Signatures", "Unterschriften", "Firmas"),
    "handed_over": ("Handed over by", "Übergeben von", "Entregado por"),
    "taken_over": ("Taken over by", "Übernommen von", "Recibido por"),
    "date": ("Place and date", "Ort und Datum", "Lugar y fecha"),
    "grounds": (
        "What this record rests on",
        "Worauf dieses Protokoll beruht",
        "En qué se basa esta acta",
    ),
    "entries": ("entries of the logbook", "Einträge des Logbuchs", "entradas del registro"),
    "how_to_check": (
        "SHA-256 of the SHA-256 of each entry's line, in hexadecimal, one a line, oldest first; "
        "the lines are those of: portcall logbook export. With the tool: portcall report --check",
        "SHA-256 über die SHA-256 der Zeile jedes Eintrags, hexadezimal, je eine Zeile, der "
        "älteste zuerst; die Zeilen sind die von: portcall logbook export. Mit dem Werkzeug: "
        "portcall report --check",
        "SHA-256 de los SHA-256 de la línea de cada entrada, en hexadecimal, uno por línea, el más "
        "antiguo primero; las líneas son las de: portcall logbook export. Con la herramienta: "
        "portcall report --check",
    ),
    "contract": ("Contract", "Auftrag", "Contrato"),
    "customer": ("Customer", "Kunde", "Cliente"),
    "revision": ("Revision", "Revision", "Revisión"),
    "printed": ("made by", "erstellt von", "hecha por"),
    "times": ("Times", "Zeiten", "Horas"),
    "changes_short": ("Changes", "Änderungen", "Cambios"),
    "replaced_short": ("Replaced", "Ersetzt", "Sustituidos"),
    "watches_short": ("Watches", "Dauermessungen", "Vigilancia"),
    "grounds_short": ("Grounds", "Grundlagen", "Fundamentos"),
    "panels": ("Addresses per panel", "Adressen je Schaltschrank", "Direcciones por armario"),
    "panel": ("Panel", "Schaltschrank", "Armario"),
    "addresses": ("Addresses", "Adressen", "Direcciones"),
    "subnets": ("Free addresses", "Freie Adressen", "Direcciones libres"),
    "subnet": ("Subnet", "Teilnetz", "Subred"),
    "free": ("Free", "Frei", "Libres"),
    "and_more": ("and {count} more", "und {count} weitere", "y {count} más"),
    "firmware_list": ("Firmware list", "Firmwareliste", "Lista de firmware"),
    "ports": ("Ports of the switches", "Belegung der Switch-Ports", "Puertos de los switches"),
    "switch": ("Switch", "Switch", "Switch"),
    "port": ("Port", "Port", "Puerto"),
    "behind": ("Behind it", "Dahinter", "Detrás"),
    "others": ("{count} more", "{count} weitere", "{count} más"),
    "count": ("Number", "Anzahl", "Número"),
    "appendix": ("Appendix", "Anhang", "Anexo"),
    "engineer": (
        "For the engineer",
        "Für die Technik",
        "Para el técnico",
    ),
    "for_engineer": (
        "For the engineer: what is open, and the line to type",
        "Für die Technik: was offen ist, und die Zeile dafür",
        "Para el técnico: qué está pendiente y qué teclear",
    ),
    "days_old": ("{count} days old", "{count} Tage alt", "hace {count} días"),
    "all_devices": ("all {count} devices", "alle {count} Geräte", "los {count} dispositivos"),
    "all_with_address": (
        "all {count} with an address",
        "alle {count} mit einer Adresse",
        "los {count} con dirección",
    ),
    "its_address": ("its address", "seine Adresse", "su dirección"),
    "right": ("right", "richtig", "correcto"),
    "not done": ("not done", "nicht ausgeführt", "no hecho"),
    "not judged": ("not judged", "nicht geprüft", "no comprobado"),
    "not_known": ("not known", "nicht bekannt", "no se sabe"),
    "never": ("never", "nie", "nunca"),
    "ms": ("ms", "ms", "ms"),
    "never seen": ("never seen", "nie gesehen", "nunca visto"),
    "seen": ("seen", "gesehen", "visto"),
    "asked": ("asked for an address", "hat um eine Adresse gebeten", "pidió una dirección"),
    "given": ("given its address", "Adresse gegeben", "dirección dada"),
    "kept": ("told to keep it", "angewiesen, sie zu halten", "con orden de conservarla"),
    "proved by power cycle": (
        "proved by power cycle",
        "durch Aus- und Einschalten bewiesen",
        "probado con apagado y encendido",
    ),
    "not all read": ("not all read", "nicht alles abgelesen", "no todo leído"),
    "verified right": ("verified right", "geprüft: richtig", "verificado: correcto"),
    "verified wrong": ("verified wrong", "geprüft: falsch", "verificado: incorrecto"),
    "keeps": ("keeps it", "hält sie", "la conserva"),
    "asks": ("asks for it at each start", "fragt bei jedem Start", "la pide en cada arranque"),
}


_SAID = {
    "never seen": (
        "It has not been seen yet.",
        "Es wurde noch nicht gesehen.",
        "Aún no se ha visto.",
    ),
    "seen": (
        "It was seen, and is not verified yet.",
        "Es wurde gesehen und ist noch nicht geprüft.",
        "Se ha visto y aún no está verificado.",
    ),
    "asked": (
        "It asks for an address, and has none yet.",
        "Es fragt nach einer Adresse und hat noch keine.",
        "Pide una dirección y aún no la tiene.",
    ),
    "given": (
        "It was given its address, and is not verified yet.",
        "Es hat seine Adresse bekommen und ist noch nicht geprüft.",
        "Recibió su dirección y aún no está verificado.",
    ),
    "kept": (
        "It was told to keep its address, and is not verified yet.",
        "Es soll seine Adresse halten und ist noch nicht geprüft.",
        "Debe conservar su dirección y aún no está verificado.",
    ),
    "proved by power cycle": (
        "It keeps its address, and is not verified yet.",
        "Es hält seine Adresse und ist noch nicht geprüft.",
        "Conserva su dirección y aún no está verificado.",
    ),
    "not all read": (
        "Not everything that is planned could be read from it.",
        "Nicht alles, was geplant ist, war auslesbar.",
        "No se pudo leer todo lo planificado.",
    ),
    "verified wrong": (
        "It is not as planned.",
        "Es ist nicht wie geplant.",
        "No está como se planificó.",
    ),
    "missing": (
        "It does not answer at its planned address.",
        "Es antwortet nicht an seiner geplanten Adresse.",
        "No responde en su dirección planificada.",
    ),
    "silent": (
        "It is there, and does not answer.",
        "Es ist da und antwortet nicht.",
        "Está conectado y no responde.",
    ),
    "differs": (
        "{column}: {value}; planned: {planned}.",
        "{column}: {value}; geplant: {planned}.",
        "{column}: {value}; planificado: {planned}.",
    ),
    "asking": (
        "It has no address, and asks for one.",
        "Es hat keine Adresse und fragt nach einer.",
        "No tiene dirección y pide una.",
    ),
    "no address": ("It has no address.", "Es hat keine Adresse.", "No tiene dirección."),
    "elsewhere": (
        "It is at another address than planned.",
        "Es ist an einer anderen Adresse als geplant.",
        "Está en otra dirección que la planificada.",
    ),
    "is-at": (
        "It is at {addresses}, which is not its planned address.",
        "Es ist an {addresses}, was nicht seine geplante Adresse ist.",
        "Está en {addresses}, que no es su dirección planificada.",
    ),
    "wrong MAC": (
        "Another device is at its address.",
        "Ein anderes Gerät ist an seiner Adresse.",
        "Otro dispositivo está en su dirección.",
    ),
    "conflict": (
        "Several devices have its address.",
        "Mehrere Geräte haben seine Adresse.",
        "Varios dispositivos tienen su dirección.",
    ),
    "shared": (
        "{address}: several devices have this address: {macs}.",
        "{address}: mehrere Geräte haben diese Adresse: {macs}.",
        "{address}: varios dispositivos tienen esta dirección: {macs}.",
    ),
    "not planned": (
        "A device that is not planned: {device}.",
        "Ein Gerät, das nicht geplant ist: {device}.",
        "Un dispositivo no planificado: {device}.",
    ),
    "noted": ("{text}", "{text}", "{text}"),
    "lost-its-address": (
        "It lost its address when the power was switched off and on.",
        "Es hat beim Aus- und Einschalten seine Adresse verloren.",
        "Perdió su dirección al apagar y encender.",
    ),
    "not-set": (
        "Setting it did not succeed, and nothing shows that it keeps its address.",
        "Das Einstellen gelang nicht, und nichts zeigt, dass es seine Adresse hält.",
        "No se pudo ajustar, y nada muestra que conserve su dirección.",
    ),
    "given-only": (
        "It was given its address, and nothing shows that it keeps it without power.",
        "Es hat seine Adresse bekommen, und nichts zeigt, dass es sie ohne Spannung hält.",
        "Recibió su dirección, y nada muestra que la conserve sin tensión.",
    ),
    "planned-since": (
        "It is planned otherwise since it was verified.",
        "Seit der Prüfung ist es anders geplant.",
        "Desde la verificación está planificado de otro modo.",
    ),
}
"""Open points in a customer's words, by what they are (``sections.open_points``)."""

_DONE = Phrases(
    (
        (
            "{a} stored in the device",
            "{a}, im Gerät gespeichert",
            "{a}, guardada en el dispositivo",
        ),
        ("{a} by BOOTP", "{a}, über BOOTP", "{a}, por BOOTP"),
        ("{a} by DHCP", "{a}, über DHCP", "{a}, por DHCP"),
        ("asks by {a}", "fragt über {a}", "pide por {a}"),
        ("{a} in a way of its own", "{a}, auf eigene Weise", "{a}, a su manera"),
        ("{a}, no station name", "{a}, kein Stationsname", "{a}, sin nombre de estación"),
        ("no address, {a}", "keine Adresse, {a}", "sin dirección, {a}"),
        (
            "no address, no station name",
            "keine Adresse, kein Stationsname",
            "sin dirección, sin nombre de estación",
        ),
        ("not done", "nicht ausgeführt", "no hecho"),
        (
            "not known to be done",
            "nicht bekannt, ob ausgeführt",
            "no se sabe si se hizo",
        ),
        ("removed", "entfernt", "quitado"),
        ("given by {a}", "gegeben über {a}", "dado por {a}"),
        ("device", "Gerät", "dispositivo"),
        ("device, by {a}", "Gerät, über {a}", "dispositivo, por {a}"),
        ("plan", "Plan", "plan"),
        ("plan, by hand", "Plan, von Hand", "plan, a mano"),
        ("serial {a}", "Seriennummer {a}", "número de serie {a}"),
        ("firmware {a}", "Firmware {a}", "firmware {a}"),
    )
)
"""What was done, and the values before and after, as entries have them (``content``)."""

_STRANGER = Phrases([("{a} at {b}", "{a} an {b}", "{a} en {b}")])
"""A device that is in no row, and where it was seen."""

_OTHERWISE = {"asks": "asking", "differs": "verified wrong", "is-at": "elsewhere"}
"""The words without values, where a record of before has none of these."""


def words(language: str) -> Mapping[str, str]:
    """The words of a language by what they are for; ``LANGUAGES`` are known."""
    place = LANGUAGES.index(language)
    return {key: each[place] for key, each in _WORDS.items()}


def said(language: str, what: str, values: Mapping[str, object]) -> str:
    """An open point in a customer's words; what this version has no words for is not as planned."""
    place = LANGUAGES.index(language)
    shown = {key: _shown(value, place) for key, value in values.items()}
    if "device" in shown:
        shown["device"] = _STRANGER.told(shown["device"], language)
    for key in (what, _OTHERWISE.get(what, ""), "verified wrong"):
        if key in _SAID:
            try:
                return _SAID[key][place].format(**shown)
            except (KeyError, IndexError, ValueError):
                continue
    return ""


def _shown(value: object, place: int) -> str:
    if isinstance(value, (list, tuple)):
        return ", ".join(map(str, value))
    return column(LANGUAGES[place], str(value))


def done(language: str, text: str) -> str:
    """What was done, or a value before or after, as an entry has it, in a language."""
    rest = text.removeprefix("not done: ")
    if rest != text:
        return f"{_DONE.told('not done', language)}: {done(language, rest)}"
    return _DONE.told(text, language)


def column(language: str, name: str) -> str:
    """The name of a column of the plan; one of a site's own as it is."""
    return _WORDS[name][LANGUAGES.index(language)] if name in _COLUMNS else name


_COLUMNS = (
    *("mask", "gateway", "maker", "product", "serial", "firmware", "mac", "address"),
    *("name", "place", "group", "kind", "note"),
)
"""Names of columns, which are told in the language."""
