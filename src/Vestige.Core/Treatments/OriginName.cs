namespace Vestige.Core.Treatments;

/// <summary>By what the rows of combined tables are told apart.</summary>
public enum OriginName
{
    /// <summary>Schema and name, as <c>schema.table</c>.</summary>
    Table,

    /// <summary>The schema alone.</summary>
    Schema,

    /// <summary>The name alone.</summary>
    Name,
}
