import { type ReactNode, useId } from 'react';

export function Trouble({ error }: { error: string }): ReactNode {
  return (
    <p className="trouble" role="alert">
      {error}
    </p>
  );
}

/** Something that is being worked out, that went wrong, or that is there. */
export function Shown<T>({ of, children }: { of: { data: T | undefined; error: string | undefined }; children: (data: T) => ReactNode }): ReactNode {
  if (of.error !== undefined) return <Trouble error={of.error} />;
  if (of.data === undefined) return <p className="quiet">Working it out …</p>;
  return children(of.data);
}

export function Choice({
  label,
  value,
  options,
  onChange,
  none,
}: {
  label: string;
  value: string;
  options: readonly { readonly id: string; readonly label: string; readonly group?: string }[];
  onChange: (value: string) => void;
  none?: string;
}): ReactNode {
  const id = useId();
  const groups = [...new Set(options.map(({ group }) => group ?? ''))];
  const of = (group: string) =>
    options
      .filter((one) => (one.group ?? '') === group)
      .map((one) => (
        <option key={one.id} value={one.id}>
          {one.label}
        </option>
      ));
  return (
    <div className="choice">
      <label htmlFor={id}>{label}</label>
      <select id={id} value={value} onChange={(event) => onChange(event.target.value)}>
        {none !== undefined && <option value="">{none}</option>}
        {groups.map((group) =>
          group === '' ? (
            of(group)
          ) : (
            <optgroup key={group} label={group}>
              {of(group)}
            </optgroup>
          ),
        )}
      </select>
    </div>
  );
}

/** A line to write in. With `onEnter` it is sent with the key; with `onChange` at every letter. */
export function Line({
  label,
  value,
  onEnter,
  onChange,
  ...input
}: {
  label: string;
  value: string;
  onEnter?: (value: string) => void;
  onChange?: (value: string) => void;
  type?: string;
  min?: string;
  maxLength?: number;
  placeholder?: string;
}): ReactNode {
  const id = useId();
  return (
    <form
      className="choice"
      onSubmit={(event) => {
        event.preventDefault();
        onEnter?.(String(new FormData(event.currentTarget).get('line') ?? '').trim());
      }}
    >
      <label htmlFor={id}>{label}</label>
      {onChange ? (
        <input id={id} {...input} value={value} onChange={(event) => onChange(event.target.value)} />
      ) : (
        <input id={id} {...input} name="line" key={value} defaultValue={value} />
      )}
    </form>
  );
}

interface Finding {
  readonly code: string;
  readonly severity: string;
  readonly place: string;
  readonly words: ReactNode;
  readonly accepted?: string;
}

/** What was found, and what of it is meant so. */
export function Findings({ all }: { all: readonly Finding[] }): ReactNode {
  const sorted = [...all].sort((one, other) => Number(one.accepted !== undefined) - Number(other.accepted !== undefined));
  return (
    <ul className="findings">
      {sorted.map(({ code, severity, place, words, accepted }) => (
        <li key={`${code} ${place}`} className={accepted === undefined ? severity : 'accepted'}>
          <strong>{accepted === undefined ? severity : 'accepted'}</strong> <code>{place}</code> <span className="quiet">{code}</span>
          {accepted !== undefined && <p>{accepted}</p>}
          <p className={accepted === undefined ? undefined : 'quiet'}>{words}</p>
        </li>
      ))}
    </ul>
  );
}

/** A table that scrolls by itself, also by the keyboard. */
export function Sheet({ title, head, children }: { title: string; head: readonly ReactNode[]; children: ReactNode }): ReactNode {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <section className="scroll" tabIndex={0} aria-label={title}>
      <table>
        <thead>
          <tr>
            {head.map((cell, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: columns do not move
              <th key={i} scope="col">
                {cell}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </section>
  );
}
