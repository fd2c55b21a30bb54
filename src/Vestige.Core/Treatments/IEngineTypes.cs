using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>What an engine's declared types mean to treatments. Safe for several threads.</summary>
public interface IEngineTypes
{
    /// <summary>Whether the engine's rows hold every value as text.</summary>
    bool ValuesAreText { get; }

    /// <summary>The longest name of a table or column, in bytes of UTF-8; null where there is no limit.</summary>
    int? LongestName { get; }

    /// <summary>A type that a person wrote, as the engine itself spells it.</summary>
    string Spelled(string type);

    ColumnMeaning MeaningOf(Column column);

    /// <summary>How a column holds several values in one; null when it does not.</summary>
    RepeatedValue? RepeatOf(Column column);

    /// <summary>The type of a column that takes every value of that type.</summary>
    string TypeFor(ExpressionType type);

    /// <summary>What a column's values are to a database of another engine; null when that cannot be told from its type.</summary>
    ColumnMeaning? MeaningElsewhere(Column column);

    /// <summary>The type of a column that holds every value of that meaning as it is, when another engine sends it.</summary>
    string TypeHolding(ColumnMeaning meaning);

    /// <summary>What becomes of values of one declared type in a column of another.</summary>
    TypeChange ChangeOf(string from, string to);
}
