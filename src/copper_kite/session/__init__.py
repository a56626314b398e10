"""Sessions that people and scripts hold, and stand-ins that take them.

`run_probe` walks through a session and says what stops it; `Talk` is one typed by hand, `play_script` one written down;
`hand_over` and `send_many` submit messages; `StandIn` is the other side, well-behaved or not.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.session.behaviour import Behaviour, read_behaviour
    from copper_kite.session.captures import Capture, clear_captures, find_capture, read_captures
    from copper_kite.session.caught import Caught
    from copper_kite.session.drop import Dropped, leave_message, open_dropped
    from copper_kite.session.handover import Parcel, envelope_groups, hand_over, pass_through
    from copper_kite.session.look import Seen, look_at_host, safest
    from copper_kite.session.play import Played, play_script
    from copper_kite.session.probe import PATIENCE, Letter, Probed, run_probe, sweep_ports, verdict_on_stop
    from copper_kite.session.script import Script, parse_script, read_script
    from copper_kite.session.sending import Sent, send_many
    from copper_kite.session.staging import stage_stand_in
    from copper_kite.session.standin import PUT_OFF, REFUSED, Rule, StandIn, StandInPlan
    from copper_kite.session.survey import Survey, exchangers, run_survey
    from copper_kite.session.talk import HELPERS, Said, Talk, holds_secret
    from copper_kite.session.token_stand_in import TokenStandIn
    from copper_kite.session.web_stand_in import WebReply, WebRequest, WebStandIn, policy_responder

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "behaviour": "Behaviour read_behaviour",
        "caught": "Caught",
        "captures": "Capture clear_captures find_capture read_captures",
        "drop": "Dropped leave_message open_dropped",
        "handover": "Parcel envelope_groups hand_over pass_through",
        "look": "Seen look_at_host safest",
        "play": "Played play_script",
        "probe": "Letter PATIENCE Probed run_probe sweep_ports verdict_on_stop",
        "script": "Script parse_script read_script",
        "sending": "Sent send_many",
        "staging": "stage_stand_in",
        "standin": "PUT_OFF REFUSED Rule StandIn StandInPlan",
        "survey": "Survey exchangers run_survey",
        "talk": "HELPERS Said Talk holds_secret",
        "token_stand_in": "TokenStandIn",
        "web_stand_in": "WebReply WebRequest WebStandIn policy_responder",
    },
)
