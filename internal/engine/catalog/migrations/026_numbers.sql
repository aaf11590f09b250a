-- +goose Up
-- A number for each principal, which stands with what it has published. It is never another's, and
-- its name is kept when the principal is gone: what was published stays.
CREATE TABLE principal_numbers (
    number int GENERATED ALWAYS AS IDENTITY (MINVALUE 1 MAXVALUE 16777215) PRIMARY KEY,
    name text NOT NULL
);
ALTER TABLE principals ADD COLUMN number int UNIQUE;
-- +goose StatementBegin
CREATE FUNCTION give_number() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO principal_numbers (name) VALUES (NEW.name) RETURNING number INTO NEW.number;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER give_number BEFORE INSERT ON principals FOR EACH ROW EXECUTE FUNCTION give_number();
-- +goose StatementBegin
DO $$
DECLARE p record; n int;
BEGIN
    FOR p IN SELECT id, name FROM principals ORDER BY created_at, id LOOP
        INSERT INTO principal_numbers (name) VALUES (p.name) RETURNING number INTO n;
        UPDATE principals SET number = n WHERE id = p.id;
    END LOOP;
END $$;
-- +goose StatementEnd
ALTER TABLE principals ALTER COLUMN number SET NOT NULL;
