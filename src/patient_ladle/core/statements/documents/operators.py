"""What of a command may begin with a dollar sign: operators that compute, or choose documents, from the documents at hand.

Allowed is what is listed, for the reason that its list says; what is not, is refused wherever it stands. Left out are
``$out``, ``$merge`` (write), ``$where``, ``$function``, ``$accumulator``, ``$code`` (run code), ``$toHashedIndexKey`` and the
like (tell of the server), ``$$USER_ROLES`` (tells of whoever is signed in).
"""

from __future__ import annotations


def _named(text: str) -> frozenset[str]:
    return frozenset(f"${word}" for word in text.split())


STAGES = _named("""
    addFields bucket bucketAuto count densify facet fill geoNear graphLookup group limit lookup match project redact
    replaceRoot replaceWith sample set setWindowFields skip sort sortByCount unionWith unset unwind
""")
"""Of a pipeline: they read collections, which are looked at by name, and pass documents on."""
TESTS = _named("""
    eq ne gt gte lt lte in nin and or nor not exists type expr mod regex options all elemMatch size jsonSchema comment
    bitsAllClear bitsAllSet bitsAnyClear bitsAnySet
    geoIntersects geoWithin near nearSphere geometry box center centerSphere polygon maxDistance minDistance
    text search language caseSensitive diacriticSensitive sampleRate natural
""")
"""Of a filter: each says of a document whether it is wanted; or of a hint, in which order they are looked at."""
NUMBERS = _named("""
    abs add ceil divide exp floor ln log log10 mod multiply pow round sqrt subtract trunc rand
    sin cos tan asin acos atan atan2 asinh acosh atanh sinh cosh tanh degreesToRadians radiansToDegrees
    bitAnd bitOr bitXor bitNot cmp range
""")
TEXTS = _named("""
    concat indexOfBytes indexOfCP ltrim rtrim trim regexFind regexFindAll regexMatch replaceOne replaceAll split strcasecmp
    strLenBytes strLenCP substr substrBytes substrCP toLower toUpper
""")
MOMENTS = _named("""
    dateAdd dateDiff dateFromParts dateFromString dateSubtract dateToParts dateToString dateTrunc dayOfMonth dayOfWeek dayOfYear
    hour isoDayOfWeek isoWeek isoWeekYear millisecond minute month second week year tsIncrement tsSecond
""")
SHAPES = _named("""
    arrayElemAt arrayToObject concatArrays filter first firstN indexOfArray isArray last lastN map max maxN min minN
    objectToArray reduce reverseArray size slice sortArray zip allElementsTrue anyElementTrue
    setDifference setEquals setIntersection setIsSubset setUnion getField setField unsetField mergeObjects
    binarySize bsonSize isNumber convert toBool toDate toDecimal toDouble toInt toLong toObjectId toString toUUID
    cond ifNull switch let literal meta
""")
GATHERED = _named("""
    addToSet avg bottom bottomN count covariancePop covarianceSamp denseRank derivative documentNumber expMovingAvg integral
    linearFill locf median percentile push rank shift stdDevPop stdDevSamp sum top topN
""")
"""Of a group or a window: one value of many documents."""
VALUES = _named("""
    oid date numberInt numberLong numberDouble numberDecimal binary uuid timestamp regularExpression minKey maxKey symbol
    undefined ref id db
""")
"""Values that JSON has no type for, as extended JSON writes them; the last three name another document, and fetch nothing."""
OPERATORS = TESTS | NUMBERS | TEXTS | MOMENTS | SHAPES | GATHERED | VALUES
LISTED = OPERATORS | STAGES
"""Of stages it is looked besides whether they stand in a pipeline."""
VARIABLES = frozenset(f"$${word}" for word in ["ROOT", "CURRENT", "REMOVE", "DESCEND", "PRUNE", "KEEP", "NOW", "CLUSTER_TIME"])
"""Of the server's own, which are written in large letters; a statement's own begin with a small one."""
WRITES = frozenset({"$out", "$merge"})
CODE = frozenset({"$where", "$function", "$accumulator", "$code"})
"""The last is a value of extended JSON: a program."""
OF_THE_SERVER = "system."
"""What collections begin with that are the server's own: of accounts, of what others asked, of how views are made."""
