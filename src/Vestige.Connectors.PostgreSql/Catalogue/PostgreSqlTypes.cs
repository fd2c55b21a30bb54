using System.Globalization;
using System.Text.RegularExpressions;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>
/// What the server's types mean to treatments. Values go from column to column in their text form, by the input rule of the
/// wanted type (PostgreSQL manual, Data Types); where that rule changes values without an error, it is said.
/// </summary>
internal sealed partial class PostgreSqlTypes : IEngineTypes
{
    private const int NameBytes = 63;

    private static readonly Dictionary<string, string> Aliases = new(StringComparer.Ordinal)
    {
        ["int"] = "integer",
        ["int4"] = "integer",
        ["int2"] = "smallint",
        ["int8"] = "bigint",
        ["float"] = "double precision",
        ["float8"] = "double precision",
        ["float4"] = "real",
        ["bool"] = "boolean",
        ["decimal"] = "numeric",
        ["varchar"] = "character varying",
        ["char"] = "character",
        ["timestamptz"] = "timestamp with time zone",
        ["timestamp"] = "timestamp without time zone",
        ["timetz"] = "time with time zone",
        ["time"] = "time without time zone",
    };

    /// <summary>Digits before the point that a whole number of a type may have.</summary>
    private static readonly Dictionary<string, int> WholeDigits = new(StringComparer.Ordinal)
    {
        ["smallint"] = 5,
        ["integer"] = 10,
        ["bigint"] = 19,
    };

    private PostgreSqlTypes() { }

    public static PostgreSqlTypes Instance { get; } = new();

    public IRowEncoding Encoding => TextEncoding.Instance;

    public int? LongestName => NameBytes;

    /// <summary>Values of the types without an own kind elsewhere cross as their texts.</summary>
    public LogicalType TypeOf(Column column)
    {
        ArgumentNullException.ThrowIfNull(column);
        var type = Cut(column.Type);
        return type.Array.Length > 0 ? LogicalType.ListOf(TypeOf(type with { Array = "" })) : TypeOf(type);
    }

    public string Declare(LogicalType type)
    {
        ArgumentNullException.ThrowIfNull(type);
        return type switch
        {
            { Kind: LogicalKind.Integer, Bits: 16 } => "smallint",
            { Kind: LogicalKind.Integer, Bits: 32 } => "integer",
            { Kind: LogicalKind.Real, Bits: 32 } => "real",
            { Kind: LogicalKind.Decimal, Precision: { } digits } => FormattableString.Invariant($"numeric({digits},{type.Scale ?? 0})"),
            { Kind: LogicalKind.Text, Length: { } length } => FormattableString.Invariant(
                $"character{(type.Padded ? "" : " varying")}({length})"
            ),
            { Kind: LogicalKind.Time } => $"time{Seconds(type)} without time zone",
            { Kind: LogicalKind.Timestamp } => $"timestamp{Seconds(type)} without time zone",
            { Kind: LogicalKind.Instant } => $"timestamp{Seconds(type)} with time zone",
            { Kind: LogicalKind.Uuid } => "uuid",
            { Kind: LogicalKind.Json } => "json",
            { Kind: LogicalKind.List, Element: { Kind: not LogicalKind.Opaque } element } => Declare(element) + "[]",
            _ => TypeFor(ColumnMeaning.Of(type).Type),
        };
    }

    /// <summary>A value may be stored beside its row, and then be left out of the log, where its type has no fixed length.</summary>
    public ColumnMeaning MeaningOf(Column column)
    {
        var type = TypeOf(column);
        return ColumnMeaning.Of(type) with
        {
            MayBeAbsent =
                type.Kind
                    is not (
                        LogicalKind.Boolean
                        or LogicalKind.Integer
                        or LogicalKind.Real
                        or LogicalKind.Date
                        or LogicalKind.Timestamp
                        or LogicalKind.Instant
                    ),
        };
    }

    /// <summary>Lists of the types whose elements are divided by commas, which all but boxes are.</summary>
    public RepeatedValue? RepeatOf(Column column)
    {
        ArgumentNullException.ThrowIfNull(column);
        return column.Type switch
        {
            "json" or "jsonb" => new RepeatedValue(null),
            var type
                when type.EndsWith("[]", StringComparison.Ordinal) && MeaningOf(new Column("", type[..^2])).Type != ExpressionType.Other =>
                new RepeatedValue(type[..^2]),
            "uuid[]" or "json[]" or "jsonb[]" or "inet[]" or "time without time zone[]" or "interval[]" => new RepeatedValue(
                column.Type[..^2]
            ),
            _ => null,
        };
    }

    public string TypeFor(ExpressionType type) =>
        type switch
        {
            ExpressionType.Boolean => "boolean",
            ExpressionType.Integer => "bigint",
            ExpressionType.Decimal => "numeric",
            ExpressionType.Real => "double precision",
            ExpressionType.Date => "date",
            ExpressionType.Timestamp => "timestamp without time zone",
            ExpressionType.Instant => "timestamp with time zone",
            ExpressionType.Bytes => "bytea",
            _ => "text",
        };

    public string Spelled(string type)
    {
        ArgumentNullException.ThrowIfNull(type);
        var (name, modifiers, array) = Cut(type);
        var inside =
            modifiers.Count == 0 ? "" : $"({string.Join(',', name == "numeric" && modifiers.Count == 1 ? [modifiers[0], 0] : modifiers)})";
        if (name == "character" && modifiers.Count == 0)
        {
            inside = "(1)";
        }

        var zone = name.IndexOf(" with", StringComparison.Ordinal);
        return (zone > 0 ? $"{name[..zone]}{inside}{name[zone..]}" : name + inside) + array;
    }

    public TypeChange ChangeOf(string from, string to)
    {
        var (one, other) = (Cut(Spelled(from)), Cut(Spelled(to)));
        if (Spelled(from) == Spelled(to))
        {
            return Keeps("the same type");
        }

        if (one.Array.Length > 0 || other.Array.Length > 0)
        {
            return other is { Array: "", Name: "text" } ? Keeps("values stay as they are written") : ByItsRules(to);
        }

        return other.Name switch
        {
            "text" => Keeps("values stay as they are written"),
            "character varying" => ToVarying(one, other),
            "character" => Changes("shorter texts are filled with blanks, and blanks at the end do not count"),
            "smallint" or "integer" or "bigint" => ToWhole(one, other),
            "numeric" => ToNumeric(one, other),
            "real" or "double precision" => ToFloat(one, other),
            "date" or "timestamp without time zone" or "timestamp with time zone" => ToTime(one, other),
            "json" when one.Name == "jsonb" => Keeps("values stay as they are written"),
            "jsonb" => Changes("keys are put in another order, and of equal ones only the last stays"),
            _ => ByItsRules(to),
        };
    }

    private static LogicalType TypeOf(TypeName type) =>
        type.Name switch
        {
            "boolean" => LogicalType.Boolean,
            "smallint" => LogicalType.Integer with { Bits = 16 },
            "integer" => LogicalType.Integer with { Bits = 32 },
            "bigint" => LogicalType.Integer,
            "numeric" when type.Modifiers.Count > 0 => LogicalType.Decimal with
            {
                Precision = type.Modifiers[0],
                Scale = type.Modifiers.ElementAtOrDefault(1),
            },
            "numeric" => LogicalType.Decimal,
            "real" => LogicalType.Real with { Bits = 32 },
            "double precision" => LogicalType.Real,
            "text" => LogicalType.Text,
            "character varying" => LogicalType.Text with { Length = Modifier(type) },
            "character" => LogicalType.Text with { Length = Modifier(type), Padded = true },
            "bytea" => LogicalType.Bytes,
            "date" => LogicalType.Date,
            "time without time zone" => LogicalType.Time with { Precision = Modifier(type) },
            "timestamp without time zone" => LogicalType.Timestamp with { Precision = Modifier(type) },
            "timestamp with time zone" => LogicalType.Instant with { Precision = Modifier(type) },
            "uuid" => LogicalType.Uuid,
            "json" or "jsonb" => LogicalType.Json,
            _ => LogicalType.Opaque,
        };

    private static int? Modifier(TypeName type) => type.Modifiers.Count > 0 ? type.Modifiers[0] : null;

    private static string Seconds(LogicalType type) => type.Precision is { } digits ? FormattableString.Invariant($"({digits})") : "";

    private static TypeChange ByItsRules(string to) =>
        Changes($"the server reads texts as {to} by rules of its own, and may round values, drop parts or give them another form");

    private static TypeChange Keeps(string words) => new(TypeOutcome.Keeps, words);

    private static TypeChange Refuses(string words) => new(TypeOutcome.MayRefuse, words);

    private static TypeChange Changes(string words) => new(TypeOutcome.MayChange, words);

    private static TypeChange Never(string from, string to) => new(TypeOutcome.Impossible, $"no value of {from} can be read as {to}");

    private static bool IsText(string name) => name is "text" or "character varying" or "character";

    private static bool IsWhole(string name) => WholeDigits.ContainsKey(name);

    private static bool IsNumber(string name) => IsWhole(name) || name is "numeric" or "real" or "double precision";

    private static bool IsMoment(string name) => name is "date" or "timestamp without time zone" or "timestamp with time zone";

    private static TypeChange ToVarying(TypeName from, TypeName to)
    {
        if (to.Modifiers.Count == 0)
        {
            return Keeps("values stay as they are written");
        }

        if (from.Name == "character varying" && from.Modifiers.Count == 1 && from.Modifiers[0] <= to.Modifiers[0])
        {
            return Keeps("it has room for more");
        }

        return IsNumber(from.Name) || IsMoment(from.Name) || from.Name is "boolean" or "uuid" or "bytea"
            ? Refuses("a value whose text is longer is refused")
            : Changes($"blanks beyond {to.Modifiers[0]} characters are cut; a longer text is refused");
    }

    private static TypeChange ToWhole(TypeName from, TypeName to)
    {
        if (WholeDigits.TryGetValue(from.Name, out var digits))
        {
            return digits <= WholeDigits[to.Name] ? Keeps("every whole number fits") : Refuses("a number that is too large is refused");
        }

        return from.Name switch
        {
            "numeric" => Refuses("a value that is not a whole number of that size is refused"),
            "boolean" or "bytea" => Never(from.Name, to.Name),
            _ => Changes("leading zeros, signs and blanks go; what is not a whole number of that size is refused"),
        };
    }

    private static TypeChange ToNumeric(TypeName from, TypeName to)
    {
        if (from.Name is "boolean" or "bytea")
        {
            return Never(from.Name, to.Name);
        }

        if (!IsNumber(from.Name))
        {
            return Changes("leading zeros, signs and blanks go, and numbers may be rounded; what is not a number is refused");
        }

        if (to.Modifiers.Count == 0)
        {
            return from.Name is "real" or "double precision" ? Changes("the sign of zero goes") : Keeps("every number fits");
        }

        var (precision, scale) = (to.Modifiers[0], to.Modifiers[1]);
        if (WholeDigits.TryGetValue(from.Name, out var digits))
        {
            return digits <= precision - scale && scale >= 0 ? Keeps("every whole number fits")
                : scale < 0 ? Changes("numbers are rounded")
                : Refuses("a number that is too large is refused");
        }

        if (from.Name == "numeric" && from.Modifiers.Count == 2 && from.Modifiers[1] <= scale)
        {
            return from.Modifiers[0] - from.Modifiers[1] <= precision - scale
                ? Keeps("every number fits")
                : Refuses("a number that is too large is refused");
        }

        return Changes($"numbers are rounded to {scale} digits behind the point");
    }

    private static TypeChange ToFloat(TypeName from, TypeName to)
    {
        if (from.Name is "boolean" or "bytea")
        {
            return Never(from.Name, to.Name);
        }

        return from.Name switch
        {
            "smallint" => Keeps("every number fits"),
            "integer" or "real" when to.Name == "double precision" => Keeps("every number fits"),
            _ => Changes($"numbers get the nearest value of {to.Name}, with {(to.Name == "real" ? "6" : "15")} digits that are sure"),
        };
    }

    private static TypeChange ToTime(TypeName from, TypeName to) =>
        (from.Name, to.Name) switch
        {
            ("date", "timestamp without time zone") => Refuses("each day becomes its first moment; one after the year 294276 is refused"),
            ("date", _) => Changes("each day becomes its first moment in UTC"),
            ("timestamp without time zone", "date") or ("timestamp with time zone", "date") => Changes("the time of day is dropped"),
            ("timestamp with time zone", "timestamp without time zone") => Changes("the zone is dropped; times are those of UTC"),
            ("timestamp without time zone", "timestamp with time zone") => Changes("times are taken as those of UTC"),
            (var one, var other) when one == other => Precision(to) >= Precision(from)
                ? Keeps("it has room for every digit")
                : Changes($"times are rounded to {Precision(to)} digits of a second"),
            (var one, _) when one is "boolean" or "bytea" => Never(one, to.Name),
            _ => Changes("the server reads texts as times by rules of its own, and may drop a zone or a time of day"),
        };

    private static int Precision(TypeName time) => time.Modifiers.Count == 1 ? time.Modifiers[0] : 6;

    /// <summary>A type's name without what stands in parentheses, that, and whether it is an array.</summary>
    private static TypeName Cut(string type)
    {
        var match = Form().Match(type.Trim());
        var name = match.Groups["name"].Value.Trim();
        var plain = Spaces().Replace(name.ToLowerInvariant(), " ");
        var rest = match.Groups["zone"].Success ? $" {Spaces().Replace(match.Groups["zone"].Value.Trim().ToLowerInvariant(), " ")}" : "";
        var known = rest.Length > 0 ? plain + rest : Aliases.GetValueOrDefault(plain, plain);
        var modifiers = match.Groups["in"].Success
            ? match
                .Groups["in"]
                .Value.Split(',')
                .Select(part => int.Parse(part.Trim(), NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture))
                .ToList()
            : [];
        return new TypeName(name.Contains('"', StringComparison.Ordinal) ? name + rest : known, modifiers, match.Groups["array"].Value);
    }

    [GeneratedRegex(
        @"^(?<name>[^(\[]+?)\s*(\((?<in>\s*-?[0-9]{1,7}\s*(,\s*-?[0-9]{1,7}\s*)?)\))?(?<zone>\s+with(out)?\s+time\s+zone)?\s*"
            + @"(?<array>(\[\])*)$|^(?<name>.*)$",
        RegexOptions.CultureInvariant | RegexOptions.ExplicitCapture | RegexOptions.IgnoreCase | RegexOptions.Singleline,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex Form();

    [GeneratedRegex(@"\s+", RegexOptions.CultureInvariant, matchTimeoutMilliseconds: 1000)]
    private static partial Regex Spaces();

    private readonly record struct TypeName(string Name, IReadOnlyList<int> Modifiers, string Array);
}
