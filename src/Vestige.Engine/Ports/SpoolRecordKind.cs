namespace Vestige.Engine.Ports;

/// <summary>What a record of a spool file holds.</summary>
public enum SpoolRecordKind : byte
{
    /// <summary>First in each file: which log it is of and where it begins.</summary>
    Header = 1,

    /// <summary>The form of a table.</summary>
    Relation = 2,

    /// <summary>Whole transactions, or a part of one.</summary>
    Data = 3,

    /// <summary>Which tables are read from the log, from there on.</summary>
    Tables = 4,

    /// <summary>A note of the log's reader.</summary>
    Note = 5,

    /// <summary>The join at which the branch of the file is to end.</summary>
    Join = 6,
}
