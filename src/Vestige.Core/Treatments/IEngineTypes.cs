using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Types;

namespace Vestige.Core.Treatments;

/// <summary>
/// The types of an engine: what its declared types are to other engines and to expressions, and how its rows hold values. Safe for several
/// threads.
/// </summary>
public interface IEngineTypes
{
    /// <summary>How its rows hold values.</summary>
    IRowEncoding Encoding { get; }

    /// <summary>The longest name of a table or column, in bytes of UTF-8; null where there is no limit.</summary>
    int? LongestName { get; }

    /// <summary>A type that a person wrote, as the engine itself spells it.</summary>
    string Spelled(string type);

    /// <summary>What a column holds, to other engines; <see cref="LogicalKind.Any"/> where that cannot be told from its type.</summary>
    LogicalType TypeOf(Column column);

    /// <summary>The declared type of a column that holds every value of a type as it is.</summary>
    string Declare(LogicalType type);

    /// <summary>
    /// What a column's values are to an expression that reckons with rows of this engine, which may take them for less than
    /// <see cref="TypeOf"/>: where any value may stand in a column, only what the engine itself makes of its type can be relied on.
    /// </summary>
    ColumnMeaning MeaningOf(Column column);

    /// <summary>How a column holds several values in one; null when it does not.</summary>
    RepeatedValue? RepeatOf(Column column);

    /// <summary>The type of a column for what an expression makes of rows of this engine.</summary>
    string TypeFor(ExpressionType type);

    /// <summary>What becomes of values of one declared type in a column of another.</summary>
    TypeChange ChangeOf(string from, string to);
}
