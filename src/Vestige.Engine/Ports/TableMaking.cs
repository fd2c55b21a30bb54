namespace Vestige.Engine.Ports;

/// <summary>When a table that is there already is made again.</summary>
public enum TableMaking
{
    /// <summary>Never.</summary>
    WhereMissing,

    /// <summary>Only where it is missing; another form is refused, for other tables go into it as well.</summary>
    WhereMissingOrSame,

    /// <summary>When its form is another.</summary>
    WhereOther,

    /// <summary>Always: it is dropped with all that belongs to it.</summary>
    Anew,
}
