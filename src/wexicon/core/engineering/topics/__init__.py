"""What `wexicon calc` works out: the topics of all subjects, in the order in which they are listed; each file has those of one
subject.
"""

from __future__ import annotations

from wexicon.core.engineering.topic import Topic
from wexicon.core.engineering.topics import circuits, frames, links, positions, serial, signals, timers

TOPICS: dict[str, Topic] = {
    topic.name: topic
    for subject in (timers, signals, links, serial, frames, positions, circuits)
    for topic in subject.TOPICS
}
